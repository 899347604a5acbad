"""What can be checked of the front end without a browser: contrast, its own words, no address beyond this machine."""

from __future__ import annotations

import json
import re
from itertools import product
from pathlib import Path

import pytest

WEB = Path(__file__).parents[1] / "web"
STYLES = (WEB / "src" / "styles.css").read_text()
BLOCKS = {
    "light": STYLES.split(":root {")[1].split("}")[0],
    "dark": STYLES.split("[data-theme='dark'] {")[1].split("}")[0],
}


def colours(theme: str) -> dict[str, tuple[float, float, float]]:
    found = re.findall(r"--([\w-]+): #([0-9a-f]{6});", BLOCKS[theme])
    return {name: tuple(int(code[i : i + 2], 16) / 255 for i in (0, 2, 4)) for name, code in found}  # type: ignore[misc]


def luminance(rgb: tuple[float, float, float]) -> float:
    """WCAG 2.2, relative luminance."""
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in rgb]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: tuple[float, float, float], other: tuple[float, float, float]) -> float:
    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.mark.parametrize(
    ("theme", "text", "ground"),
    list(product(BLOCKS, ("ink", "soft", "indigo", "brick", "ochre-ink", "pine"), ("paper", "sheet")))
    + list(product(BLOCKS, ("ink", "soft", "indigo"), ("mat",))),
)
def test_text_meets_wcag_aa(theme: str, text: str, ground: str) -> None:
    palette = colours(theme)
    assert contrast(palette[text], palette[ground]) >= 4.5


@pytest.mark.parametrize(("theme", "mark"), list(product(BLOCKS, ("pine", "brick", "ochre", "indigo", "ink"))))
def test_marks_meet_wcag_aa_for_graphics(theme: str, mark: str) -> None:
    palette = colours(theme)
    for ground in ("paper", "sheet"):
        assert contrast(palette[mark], palette[ground]) >= 3.0


def sources() -> list[Path]:
    return [p for p in (WEB / "src").rglob("*.ts*") if p.name != "schema.d.ts"]


def test_the_built_page_asks_nothing_of_other_machines() -> None:
    built = "".join(p.read_text(errors="replace") for p in (WEB / "dist").rglob("*") if p.suffix in {".html", ".css"})
    assert not re.findall(r"(?:src|href|url)\s*[=(]\s*[\"']?https?://", built)


def test_the_script_stays_small() -> None:
    import gzip

    script = b"".join(p.read_bytes() for p in (WEB / "dist" / "assets").glob("*.js"))
    assert len(gzip.compress(script)) < 300_000


MARKUP = re.compile(r">([^<>{}=;]*[A-Za-z][^<>{}=;]*)</")
ATTRIBUTE = re.compile(
    r"""\b(?:aria-label|title|placeholder|alt|label|heading|summary|detail)=["']([^"'{}]*[A-Za-z][^"'{}]*)["']"""
)
LITERAL = re.compile(r"""(?:aria-label|title|placeholder|label)=\{`([^`]*)`\}""")
NOT_WORDS = re.compile(r"^[\s\W\d]*$")


def stray_words(source: str) -> list[str]:
    """Texts for people in a component: between tags, in attributes that are read out, in templates of such
    attributes."""
    found = [text.strip() for text in [*MARKUP.findall(source), *ATTRIBUTE.findall(source)]]
    found += [re.sub(r"\$\{[^}]*\}", "", text).strip() for text in LITERAL.findall(source)]
    return [text for text in found if not NOT_WORDS.match(text)]


def test_words_stand_in_their_file() -> None:
    """A text for people belongs in words/, so that a second language is a file: sentences, single words, small letters
    and attributes."""
    stray = {
        file.name: found
        for file in sources()
        if file.suffix == ".tsx" and (found := stray_words(file.read_text(encoding="utf-8")))
    }
    assert stray == {}


@pytest.mark.parametrize(
    ("source", "words"),
    [
        ("<p>The bench is empty</p>", ["The bench is empty"]),
        ("<th>no.</th>", ["no."]),
        ('<nav aria-label="gates">', ["gates"]),
        ("<a title={`to ${x} and back`}>", ["to  and back"]),
        ("<p>{T.empty} · {x}</p>", []),
        ("<span>⇄</span>", []),
        ("const f = (a: Map<string, X>) => a", []),
    ],
)
def test_stray_words_are_seen(source: str, words: list[str]) -> None:
    assert stray_words(source) == words


def test_every_page_has_its_keys_in_the_one_map() -> None:
    """No component listens to the keyboard by itself, and every hint names a command of the map."""
    text = {file: file.read_text(encoding="utf-8") for file in sources()}
    keymap = (WEB / "src" / "lib" / "keymap.ts").read_text(encoding="utf-8")
    assert {file.name for file, own in text.items() if "useHotkeys(" in own} == {"hotkeys.ts", "Commands.tsx"}
    for own in text.values():
        for page, command in re.findall(r'<Do of="(\w+)" id="(\w+)"', own):
            assert re.search(rf"\b{command}: command\(", keymap), (page, command)


@pytest.mark.parametrize(
    "file", [p for p in sources() if p.parent.name != "words"], ids=lambda p: p.name
)  # a catalogue is as long as it is
def test_a_component_stays_readable(file: Path) -> None:
    assert len(file.read_text().splitlines()) <= 220


def test_lock_file_and_configuration_hold_no_addresses() -> None:
    lock = json.loads((WEB / "package-lock.json").read_text())
    assert not any("resolved" in package for package in lock["packages"].values())
    for name in ("requirements.txt", "requirements-dev.txt"):
        text = (WEB.parent / name).read_text()
        assert "http" not in text.replace("httpx2", "").replace("httpcore2", "")
        assert all("==" in line for line in text.splitlines() if line and not line.startswith(("#", "-r")))
