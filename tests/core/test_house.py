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
    "server": {"core", "store", "server", "files", "library", "practice", "probe", "probe_file"},
}  # fmt: skip


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


def test_only_the_store_speaks_sql() -> None:
    speakers = {f.relative_to(PACKAGE).parts[0] for f in PACKAGE.rglob("*.py") if "sqlite3" in imports(f)}
    assert speakers == {"store"}
