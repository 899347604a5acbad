"""The core is pure: it imports no I/O, no web, no database, and opens no file."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

import gatecheck.core

CORE = Path(gatecheck.core.__file__).parent
PACKAGE = CORE.parent
FORBIDDEN = {
    "sqlite3", "fastapi", "starlette", "pydantic", "uvicorn", "pathlib", "os", "io", "socket", "subprocess", "time", "datetime",
    "random", "urllib", "http", "requests", "httpx", "asyncio", "threading", "importlib", "tempfile", "shutil", "logging", "sys",
}  # fmt: skip
BELOW = {
    "core": {"core"}, "store": {"core", "store"}, "probe": {"probe"}, "practice": {"core", "practice", "probe"},
    "server": {"core", "store", "server", "files", "pieces", "library", "practice", "probe", "probe_file", "recordings", "mending", "rescuing", "row_file", "erased_capture"},
    "stick": {"core", "stick", "files", "probe_file"},
}  # fmt: skip


# floors inside the core: room -> rooms it may know besides itself
BASE = {"errors", "fields", "guid"}
PAGES = {"storage", "firmware", "disk", "volume", "scan", "signal"}
"""what reads bytes: findings and weights go up from here, and none of it knows a tape"""
FLOORS: dict[str, set[str]] = {}
FLOORS |= dict.fromkeys(BASE, BASE)
FLOORS["knowledge"] = BASE
FLOORS["words"] = FLOORS["knowledge"] | {"knowledge"}
FLOORS["belief"] = FLOORS["words"] | {"words"}
FLOORS["tape"] = FLOORS["belief"] | {"belief"}
FLOORS["decide"] = FLOORS["tape"] | {"tape"}
FLOORS["findings"] = FLOORS["belief"]
FLOORS |= dict.fromkeys(PAGES, FLOORS["belief"] | {"findings"} | PAGES)
FLOORS["capture"] = FLOORS["storage"]
FLOORS["instruments"] = FLOORS["decide"] | FLOORS["capture"] | {"decide", "capture"}
FLOORS["work"] = FLOORS["instruments"] | {"instruments"}
FLOORS["learning"] = FLOORS["decide"] | {"decide"}
FLOORS["rehearsal"] = FLOORS["work"] | {"work"}


def imports(file: Path) -> set[str]:
    names = set()
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module)
    return names


@pytest.mark.parametrize("file", sorted(CORE.rglob("*.py")), ids=lambda f: f.relative_to(CORE).as_posix())
def test_core_imports_no_io_web_or_database(file: Path) -> None:
    assert not {name for name in imports(file) if name.split(".")[0] in FORBIDDEN}
    calls = {n.func.id for n in ast.walk(ast.parse(file.read_text())) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)}
    assert not calls & {"open", "print", "input", "exec", "eval"}


@pytest.mark.parametrize("folder", sorted(BELOW))
def test_dependencies_point_downwards_only(folder: str) -> None:
    for file in (PACKAGE / folder).rglob("*.py"):
        ours = {name.split(".")[1] for name in imports(file) if name.startswith("gatecheck.")}
        assert ours <= BELOW[folder], file


def room_of(file: Path) -> str:
    return file.relative_to(CORE).parts[0].removesuffix(".py")


@pytest.mark.parametrize("file", sorted(f for f in CORE.rglob("*.py") if f != CORE / "__init__.py"), ids=lambda f: f.relative_to(CORE).as_posix())
def test_floors_inside_the_core_know_only_those_below(file: Path) -> None:
    known = {name.split(".")[2] for name in imports(file) if name.startswith("gatecheck.core.")}
    assert known <= FLOORS[room_of(file)] | {room_of(file)}


def test_floors_lead_one_way() -> None:
    """No two floors know each other, but for the rooms that read pages."""
    both = {(a, b) for a, below in FLOORS.items() for b in below if a != b and a in FLOORS.get(b, set())}
    assert all(a in PAGES | BASE and b in PAGES | BASE for a, b in both)


def test_only_the_store_speaks_sql() -> None:
    speakers = {f.relative_to(PACKAGE).parts[0] for f in PACKAGE.rglob("*.py") if "sqlite3" in imports(f)}
    assert speakers == {"store"}
