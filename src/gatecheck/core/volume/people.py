"""What of a volume is the customer's: home folders found by what is in them, and what lies beside them, with counts and
sizes."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from gatecheck.core.volume.tree import Node

HOME, FOLDER, LOOSE, ORPHANS = "home", "folder", "loose", "orphans"
OTHER = "other"


@dataclass(slots=True)
class Share:
    """Something that is copied as one. `path`: its folder, empty for files that lie loose below the root; `kind`: home,
    folder, loose, or orphans that have lost their folder; `kinds`: what its files are -> how many."""

    path: str
    kind: str
    files: int = 0
    size: int = 0
    kinds: dict[str, int] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Rules:
    """How a home folder is known, and what files are by their names' ends (people.toml)."""

    deepest: int
    least_folders: int
    marks: frozenset[str]
    folders: frozenset[str]
    systems: frozenset[str]
    templates: frozenset[str]
    loose: frozenset[str]
    ends: Mapping[str, str]

    def kind_of(self, name: str) -> str:
        return self.ends.get(name.rpartition(".")[2].lower(), OTHER) if "." in name else OTHER


def read_rules(text: str) -> Rules:
    """Raises tomllib.TOMLDecodeError, KeyError."""
    own = tomllib.loads(text)
    sets = {name: frozenset(own[name]) for name in ("marks", "folders", "systems", "templates", "loose")}
    return Rules(
        int(own["deepest"]),
        int(own["least_folders"]),
        **sets,
        ends={end: kind for kind, ends in own["kinds"].items() for end in ends},
    )


def people_of(nodes: Iterable[Node], rules: Rules) -> list[Share]:
    """Home folders first, then what has lost its folder, other folders below the root, and what lies loose there; empty
    ones are left out. One pass, bounded by the number of folders near the root."""
    below: dict[str, Share] = {}
    known_in: dict[str, set[str]] = {}
    marked: set[str] = set()
    for node in nodes:
        above, _, name = node.path.rpartition("/")
        low = name.lower()
        if node.is_folder:
            if low in rules.folders:
                known_in.setdefault(above, set()).add(low)
            continue
        if low in rules.marks:
            marked.add(above)
        if node.link or (not above and low in rules.loose):
            continue
        key = "/".join(above.split("/", rules.deepest)[: rules.deepest])
        _add(below.setdefault(key, Share(key, LOOSE)), 1, node.size, {rules.kind_of(name): 1})
    homes = _outermost(
        p
        for p in marked | {p for p, found in known_in.items() if len(found) >= rules.least_folders}
        if _may_be_home(p, rules)
    )
    shares: dict[str, Share] = {}
    for key, own in below.items():
        home = next((h for h in homes if key == h or key.startswith(f"{h}/")), None)
        first = key.partition("/")[0]
        if home is None and first.lower() in rules.systems:
            continue
        path = home if home is not None else first
        _add(
            shares.setdefault(
                path, Share(path, HOME if home is not None else ORPHANS if first == "?" else FOLDER if first else LOOSE)
            ),
            own.files,
            own.size,
            own.kinds,
        )
    for share in shares.values():
        share.kinds = dict(sorted(share.kinds.items(), key=lambda kn: -kn[1]))
    return sorted(shares.values(), key=lambda s: ((HOME, ORPHANS, FOLDER, LOOSE).index(s.kind), -s.size, s.path))


def _add(share: Share, count: int, size: int, kinds: Mapping[str, int]) -> None:
    share.files, share.size = share.files + count, share.size + size
    for kind, number in kinds.items():
        share.kinds[kind] = share.kinds.get(kind, 0) + number


def _may_be_home(path: str, rules: Rules) -> bool:
    parts = path.lower().split("/")
    return (
        bool(path)
        and len(parts) <= rules.deepest
        and parts[-1] not in rules.templates
        and parts[0] not in rules.systems
    )


def _outermost(paths: Iterable[str]) -> list[str]:
    found: list[str] = []
    for path in sorted(set(paths), key=lambda p: (p.count("/"), p)):
        if not any(path.startswith(f"{known}/") for known in found):
            found.append(path)
    return found
