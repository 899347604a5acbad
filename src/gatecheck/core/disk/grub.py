"""GRUB 2 as a second stage: what the script of its image makes of the disk's files.

GRUB manual, "Embedded configuration", "Commands". The script is walked, not run: commands that choose files are
followed, all others are taken to succeed."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from gatecheck.core.disk.grub_image import Image
from gatecheck.core.disk.second_stage import OpenVolumes, Start, file_stop, kernel_stop
from gatecheck.core.disk.walk import Stop, Walk
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.tree import Filesystem

_MOST_STEPS, _DEEPEST = 4000, 8
_MOST_DIGITS = 10
_READS_IN = ("configfile", "source", ".", "normal")
_LONGEST, _LETTERS_A_STEP, _STEPS_A_SEARCH = 4096, 1024, 16
"""letters of a word that names are filled into; what a script that is read in, and a search of all volumes, count
for"""
_NAMED = re.compile(r"\$(?:\{([^}]*)\}|([A-Za-z_][A-Za-z0-9_]*|\?))")
_TOKEN = re.compile(r"""[ \t\r]*(?:(\#[^\n]*)|(\n|;)|([{}])|((?:\\.|"(?:\\.|[^"\\])*"|'[^']*'|[^\s;{}"'\\])+))""")


@dataclass(slots=True)
class _Run:
    """One walk through scripts. `root`: number of the volume, -1 for the memory disk."""

    volumes: OpenVolumes
    image: Image
    walk: Walk
    start: Start
    root: int
    names: dict[str, str] = field(default_factory=dict)
    entries: list[tuple[str, str, list[str]]] = field(default_factory=list)
    steps: int = 0
    stop: Stop | None = None
    chosen: bool = False
    did: bool = False
    lost: bool = False
    """it goes on for longer, or deeper, than it is followed: no word on what it leads to"""


def grub_stop(
    image: Image, volumes: OpenVolumes, number: int, walk: Walk, start: Start, folder: str = ""
) -> Stop | None:
    """None where its script finds all that it names. `number`, `folder`: where it was started from."""
    run = _Run(volumes, image, walk, start, number)
    device, path = _split(image.prefix)
    own = _device(run, device) if device else number
    run.root = own if own is not None else number
    run.names |= {"root": _name(run.root), "prefix": f"({_name(run.root)}){path}"}
    run.names["cmdpath"] = f"({_name(number)})/{folder}"
    if image.config:
        _execute(run, _tokens(image.config), 0)
        if run.stop or run.chosen or run.lost:
            return run.stop
    prefix = run.names.get("prefix", "")
    if (
        "normal" not in image.modules
        and _read(run, f"{prefix}/x86_64-efi/normal.mod", quiet=True) is None
        and _read(run, f"{prefix}/i386-efi/normal.mod", quiet=True) is None
        and _read(run, f"{prefix}/i386-pc/normal.mod", quiet=True) is None
    ):
        return Stop("loader", "modules-missing", f"{_describe(run, prefix)}/normal.mod")
    text = _read(run, f"{prefix}/grub.cfg")
    if text is None and run.did and not run.stop:
        return None  # its own script did what it is for
    if text is None:
        return run.stop or Stop("loader", "configuration-missing", f"{_describe(run, prefix)}/grub.cfg")
    return script_stop(run, text)


def legacy_script_stop(volumes: OpenVolumes, number: int, path: str, walk: Walk) -> Stop | None:
    """The script of a GRUB whose image cannot be looked into: found by where it always stands."""
    run = _Run(volumes, Image("", "", {}, frozenset()), walk, lambda _number, _path: None, number)
    run.names |= {"root": _name(number), "prefix": f"({_name(number)})/{path.rpartition('/')[0]}"}
    text = _read(run, f"({_name(number)})/{path}")
    return run.stop if text is None else script_stop(run, text)


def script_stop(run: _Run, text: str) -> Stop | None:
    _execute(run, _tokens(text), 0)
    if run.stop or run.chosen or run.lost:
        return run.stop
    if run.entries:
        wanted = run.names.get("default", "0")
        place = (
            int(wanted)
            if wanted.isdecimal() and len(wanted) < _MOST_DIGITS
            else next((n for n, e in enumerate(run.entries) if wanted in (e[0], e[1])), 0)
        )
        title, _, body = run.entries[min(place, len(run.entries) - 1)]
        run.walk.step("entry", entry=title)
        _execute(run, body, 0)
        return run.stop
    return None if run.did else Stop("loader", "configuration-empty", _describe(run, run.names.get("prefix", "")))


def _name(number: int) -> str:
    return "memdisk" if number < 0 else f"hd0,{number}" if number else "hd0"


def _describe(run: _Run, prefix: str) -> str:
    device, path = _split(prefix)
    number = _device(run, device)
    return f"partition {number}: {path}" if number else path


def _split(path: str) -> tuple[str, str]:
    if path.startswith("("):
        device, _, rest = path[1:].partition(")")
        return device, rest
    return "", path


def _device(run: _Run, device: str) -> int | None:
    """Its number; -1 for the memory disk; None where there is none such."""
    if not device:
        return run.root
    if device.startswith("memdisk"):
        return -1
    disk, _, part = device.partition(",")
    if disk.startswith("hd") and disk not in ("hd0", "hd"):
        return None
    digits = re.sub(r"\D", "", part.split(",")[-1])
    if not part:
        return 0
    return (
        int(digits)
        if 0 < len(digits) < _MOST_DIGITS and any(p.number == int(digits) for p in run.volumes.pieces)
        else None
    )


def _place(run: _Run, path: str) -> tuple[int | None, str]:
    device, rest = _split(path)
    return (_device(run, device) if device else run.root), rest.strip("/")


def _read(run: _Run, path: str, *, quiet: bool = False) -> str | None:
    number, rest = _place(run, path)
    if number is None:
        return None
    if number < 0:
        raw = run.image.memdisk.get(rest)
        return raw.decode("utf-8", "replace") if raw is not None else None
    try:
        if quiet:
            return "" if run.volumes.find(number, rest) else None
        text = run.volumes.text(number, rest)
    except DecodeError as error:
        run.stop = Stop("loader", "configuration-unread", f"partition {number}: {error}")
        return None
    if text is not None:
        run.walk.step("tries", where=f"partition {number}", file=rest)
    return text


def _tokens(text: str) -> list[str]:
    """Words, `;` for every end of a command, braces by themselves. Quotes stay, for the word to be unfolded later."""
    found: list[str] = []
    at = 0
    text = text.replace("\\\n", " ")
    while at < len(text):
        own = _TOKEN.match(text, at)
        if own is None or own.end() == at:
            at += 1
            continue
        at = own.end()
        if own.group(2):
            found.append(";")
        elif own.group(3) or own.group(4):
            found.append(own.group(3) or own.group(4))
    return found


def _script(run: _Run, text: str) -> list[str]:
    """The words of a script that another reads in, as far as there are steps left for it."""
    run.steps += len(text) // _LETTERS_A_STEP
    run.lost = run.lost or run.steps > _MOST_STEPS
    return [] if run.lost else _tokens(text)


def _word(run: _Run, raw: str) -> str:
    """Quotes taken off, variables filled in (not within single quotes). Ends where it becomes longer than any name of a
    file: what is said of itself twice, time and again, would grow without end."""
    out, at, length = [], 0, 0
    while at < len(raw) and length < _LONGEST:
        letter, piece, after = raw[at], raw[at], at + 1
        if letter == "'":
            end = raw.find("'", at + 1)
            piece, after = raw[at + 1 : end if end > 0 else len(raw)], end + 1 if end > 0 else len(raw)
        elif letter == "\\" and at + 1 < len(raw):
            piece, after = raw[at + 1], at + 2
        elif letter == '"':
            piece = ""
        elif letter == "$":
            own = _NAMED.match(raw, at)
            if own is not None:
                piece, after = run.names.get(own.group(1) or own.group(2), ""), own.end()
        out.append(piece)
        length += len(piece)
        at = after
    return "".join(out)[:_LONGEST]


def _block(tokens: Sequence[str], at: int) -> tuple[list[str], int]:
    """(what stands between braces, place after them); `at`: the opening one."""
    depth, place = 0, at
    while place < len(tokens):
        depth += (tokens[place] == "{") - (tokens[place] == "}")
        place += 1
        if depth == 0:
            return list(tokens[at + 1 : place - 1]), place
    return list(tokens[at + 1 :]), place


def _command(tokens: Sequence[str], at: int) -> tuple[list[str], int]:
    place = at
    while place < len(tokens) and tokens[place] not in (";", "{", "}"):
        place += 1
    return list(tokens[at:place]), place


def _execute(run: _Run, tokens: Sequence[str], depth: int) -> bool:
    """Walk commands; the last one's success. Ends where a stop was found or something was started."""
    at, good = 0, True
    while at < len(tokens) and not run.stop and not run.chosen:
        run.steps += 1
        if run.steps > _MOST_STEPS or depth > _DEEPEST:
            run.lost = True
            return good
        if tokens[at] in (";", "}", "{"):
            at += 1
            continue
        if tokens[at] == "if":
            at, good = _if(run, tokens, at, depth)
            continue
        words, after = _command(tokens, at)
        if words[0] in ("menuentry", "submenu", "function") or (after < len(tokens) and tokens[after] == "{"):
            body, at = _block(tokens, after) if after < len(tokens) and tokens[after] == "{" else ([], after)
            if words[0] in ("menuentry", "submenu"):
                said = [_word(run, w) for w in words[1:]]
                own_id = next(
                    (said[n + 1] for n, w in enumerate(said[:-1]) if w in ("--id", "$menuentry_id_option")), ""
                )
                if words[0] == "menuentry":
                    run.entries.append((said[0] if said else "", own_id, body))
            continue
        good = _do(run, [_word(run, w) for w in words], depth)
        at = max(after, at + 1)
    return good


def _if(run: _Run, tokens: Sequence[str], at: int, depth: int) -> tuple[int, bool]:
    """if … ; then … elif … else … fi -> (place after it, success)."""
    parts: list[tuple[list[str], list[str]]] = []
    condition: list[str] = []
    body: list[str] = []
    level, place, into = 0, at + 1, "condition"
    while place < len(tokens):
        own = tokens[place]
        begins = place == 0 or tokens[place - 1] in (";", "then", "else", "{", "do")
        if own == "if" and (begins or level):
            level += 1
        if own == "fi" and level:
            level -= 1
        elif level == 0 and own == "then":
            into = "body"
            place += 1
            continue
        elif level == 0 and own in ("elif", "else", "fi"):
            parts.append((condition, body))
            condition, body = [], []
            into = "condition" if own == "elif" else "body"
            if own == "fi":
                place += 1
                break
            if own == "else":
                condition = ["true"]
            place += 1
            continue
        (condition if into == "condition" else body).append(own)
        place += 1
    for test, inner in parts:
        negated = test[:1] == ["!"]
        if _execute(run, test[1:] if negated else test, depth + 1) != negated:
            return place, _execute(run, inner, depth + 1)
        if run.stop or run.chosen:
            break
    return place, True


def _do(run: _Run, words: list[str], depth: int) -> bool:
    turns = next((n for n, w in enumerate(words) if w != "!"), len(words))
    if turns:
        return (_do(run, words[turns:], depth) if turns < len(words) else True) != bool(turns % 2)
    name, rest = words[0], [w for w in words[1:] if w]
    if "=" in name and re.match(r"[A-Za-z_]\w*=", name):
        return _set(run, name)
    if name == "set" and rest:
        return _set(run, " ".join(rest)) if "=" in rest[0] else True
    if name in ("[", "test"):
        return _test(run, rest[:-1] if name == "[" else rest)
    if name == "false":
        return False
    if name.startswith("search"):
        return _search(run, name, rest)
    run.did = run.did or name not in (
        "true",
        "insmod",
        "export",
        "load_env",
        "set",
        "terminal_input",
        "terminal_output",
        "serial",
        *_READS_IN,
    )
    files = [w for w in rest if not w.startswith("--")]
    if name in _READS_IN and files and files[0].startswith("(memdisk)") and run.image.opaque:
        run.lost = True
        return False
    if name in ("configfile", "source", ".") and files:
        text = _read(run, files[0])
        if text is None:
            if name == "configfile" and not run.stop:
                number, path = _place(run, files[0])
                run.stop = Stop(
                    "loader", "configuration-missing", f"partition {number}: {path}" if number is not None else files[0]
                )
            return False
        return _execute(run, _script(run, text), depth + 1)
    if name == "normal":
        text = _read(run, files[0] if files else f"{run.names.get('prefix', '')}/grub.cfg")
        return _execute(run, _script(run, text), depth + 1) if text is not None else False
    if name in ("linux", "linuxefi", "linux16", "kernel", "multiboot", "multiboot2") and files:
        return _load(run, files[0], kernel=name.startswith("linux"))
    if name in ("initrd", "initrdefi", "initrd16", "module", "module2"):
        return all(_load(run, f, kernel=False) for f in (files if name.startswith("initrd") else files[:1]))
    if name == "chainloader" and files and not re.search(r"(^|\))\+\d+$", files[0]):
        return _chain(run, files[0])
    if name == "boot":
        run.chosen = True
    return True


def _set(run: _Run, pair: str) -> bool:
    name, _, value = pair.partition("=")
    run.names[name] = value
    if name == "root":
        number = _device(run, value.strip("()"))
        if number is not None:
            run.root = number
    return True


def _exists(run: _Run, path: str) -> str:
    """file, folder or empty."""
    number, rest = _place(run, path)
    if number is None:
        return ""
    if number < 0:
        return "file" if rest in run.image.memdisk else ""
    volume = run.volumes.opened(number)
    node = volume.find(rest) if volume is not None else None
    return "" if node is None else "folder" if node.is_folder else "file"


def _test(run: _Run, words: list[str]) -> bool:
    return any(all(_one_test(run, one) for one in _parted(some, "-a")) for some in _parted(words, "-o"))


def _parted(words: list[str], by: str) -> Iterator[list[str]]:
    at = 0
    for place, word in enumerate([*words, by]):
        if word == by:
            yield words[at:place]
            at = place + 1


def _one_test(run: _Run, words: list[str]) -> bool:
    turns = next((n for n, w in enumerate(words) if w != "!"), len(words))
    return _plain_test(run, words[turns:]) != bool(turns % 2)


def _plain_test(run: _Run, words: list[str]) -> bool:
    if len(words) == 2 and words[0] in ("-e", "-f", "-d", "-s"):
        return _exists(run, words[1]) in (
            ("file", "folder") if words[0] == "-e" else ("folder",) if words[0] == "-d" else ("file",)
        )
    if words[:1] == ["-z"]:
        return len(words) < 2
    if words[:1] == ["-n"]:
        return len(words) > 1
    if len(words) == 3 and words[1] in ("=", "==", "!="):
        return (words[0] == words[2]) == (words[1] != "!=")
    return len(words) == 1


def _search(run: _Run, name: str, words: list[str]) -> bool:
    kind = {"search.fs_uuid": "u", "search.file": "f", "search.fs_label": "l"}.get(name, "f")
    variable, wanted, place = "root", "", 0
    while place < len(words):
        own = words[place]
        if own in ("--file", "-f"):
            kind = "f"
        elif own in ("--label", "-l", "--fs-label"):
            kind = "l"
        elif own in ("--fs-uuid", "-u"):
            kind = "u"
        elif own in ("--set", "-s"):
            if own == "-s" and place + 1 < len(words) and words[place + 1].isidentifier() and place + 2 < len(words):
                variable, place = words[place + 1], place + 1
        elif own.startswith("--set="):
            variable = own[6:]
        elif own.startswith("--hint") or own in ("--no-floppy", "-n"):
            place += own in ("--hint",)
        elif not wanted:
            wanted = own
        elif name != "search":
            variable = own
        place += 1
    run.steps += _STEPS_A_SEARCH
    for number, volume in run.volumes.all():
        if (
            (kind == "f" and volume.find(wanted))
            or (kind == "l" and volume.label == wanted)
            or (kind == "u" and volume_uuid(volume).lower() == wanted.lower())
        ):
            return _set(run, f"{variable}={_name(number)}")
    return False


def volume_uuid(volume: Filesystem) -> str:
    """As GRUB and Linux write a volume's own number; empty where its kind has none that is read."""
    held = getattr(volume, "bytes", None)
    if held is None:
        return ""
    try:
        raw = held.read(0, 512, "boot sector")
        if volume.kind.startswith("ext"):
            text = held.read(1024, 1024, "superblock")[104:120].hex()
            return f"{text[:8]}-{text[8:12]}-{text[12:16]}-{text[16:20]}-{text[20:]}"
    except DecodeError:
        return ""
    if volume.kind == "NTFS":
        return str(raw[72:80][::-1].hex())
    at = 100 if volume.kind == "exFAT" else 67 if volume.kind == "FAT32" else 39
    text = raw[at : at + 4][::-1].hex()
    return f"{text[:4]}-{text[4:]}"


def _load(run: _Run, path: str, *, kernel: bool) -> bool:
    number, rest = _place(run, path)
    run.did = True
    if number is not None and number < 0:
        found = rest in run.image.memdisk
        run.stop = run.stop or (None if found else Stop("system", "named-file-missing", rest))
        return found
    if number is None or run.volumes.opened(number) is None:
        run.stop = Stop("system", "named-file-missing", path)
        return False
    run.walk.step("tries", where=f"partition {number}", file=rest)
    run.stop = kernel_stop(run.volumes, number, rest) if kernel else file_stop(run.volumes, number, rest)
    return run.stop is None


def _chain(run: _Run, path: str) -> bool:
    number, rest = _place(run, path)
    if number is None or number < 0 or not run.volumes.find(number, rest):
        run.stop = Stop("loader", "named-file-missing", f"partition {number}: {rest}" if number is not None else path)
        return False
    run.stop = run.start(number, rest)
    run.chosen = run.stop is None
    return run.stop is None
