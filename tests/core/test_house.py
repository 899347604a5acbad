"""The house: rooms know only those below them, no modules form a circle, the core does no I/O."""

from __future__ import annotations

import ast
from functools import cache
from pathlib import Path

import gatecheck.core

CORE = Path(gatecheck.core.__file__).parent
PACKAGE = CORE.parent
FORBIDDEN = {
    "sqlite3",
    "fastapi",
    "starlette",
    "pydantic",
    "uvicorn",
    "pathlib",
    "os",
    "io",
    "socket",
    "subprocess",
    "time",
    "datetime",
    "random",
    "urllib",
    "http",
    "requests",
    "httpx",
    "asyncio",
    "threading",
    "importlib",
    "tempfile",
    "shutil",
    "logging",
    "sys",
}
BELOW: dict[str, set[str]] = {
    "core": set(), "probe": set(),
    "adapters": {"core"}, "store": {"core", "adapters"}, "practice": {"core", "probe"},
    "stick": {"core", "adapters"},
    "server": {"core", "adapters", "store", "practice", "probe"},
    "cli": {"core", "adapters", "store", "practice", "probe", "stick", "server"},
}  # fmt: skip
"""room -> rooms it may know besides itself"""


# floors inside the core: room -> rooms it may know besides itself
BASE = {"errors", "fields", "guid"}
PAGES = {"storage", "firmware", "disk", "locked", "volume", "records", "scan", "signal"}
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


@cache
def imports(file: Path) -> set[str]:
    """Modules that a file names, those of type hints included."""
    names = set()
    for node in ast.walk(_tree(file)):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names |= {node.module} | {f"{node.module}.{alias.name}" for alias in node.names}
    return names


@cache
def _tree(file: Path) -> ast.Module:
    return ast.parse(file.read_text())


FILES = {
    ".".join(f.relative_to(PACKAGE.parent).with_suffix("").parts).removesuffix(".__init__"): f
    for f in PACKAGE.rglob("*.py")
}


def _known(module: str) -> set[str]:
    """Modules of ours that a module imports."""
    return {
        name
        for name in imports(FILES[module])
        if name in FILES and name != module and FILES[name].name != "__init__.py"
    }


def test_core_imports_no_io_web_or_database() -> None:
    for file in CORE.rglob("*.py"):
        assert not {name for name in imports(file) if name.split(".")[0] in FORBIDDEN}, file
        calls = {n.func.id for n in ast.walk(_tree(file)) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)}
        assert not calls & {"open", "print", "input", "exec", "eval"}, file


def test_every_room_knows_only_those_below() -> None:
    assert {path.name for path in PACKAGE.iterdir() if path.suffix == ".py" or (path / "__init__.py").exists()} == {
        *BELOW,
        "__init__.py",
    }, "no module stands loose"
    for module in FILES:
        room = module.split(".")[1] if "." in module else ""
        known = {name.split(".")[1] for name in _known(module)}
        assert not room or known <= BELOW[room] | {room}, module


def test_rooms_of_the_core_know_only_those_below() -> None:
    for module in FILES:
        if module.startswith("gatecheck.core."):
            room = module.split(".")[2]
            known = {name.split(".")[2] for name in _known(module)}
            assert known <= FLOORS[room] | {room}, module


def test_floors_lead_one_way() -> None:
    """No two floors know each other, but for the rooms that read pages."""
    both = {
        (a, b)
        for a, below in {**FLOORS, **BELOW}.items()
        for b in below
        if a != b and a in {**FLOORS, **BELOW}.get(b, set())
    }
    assert all(a in PAGES | BASE and b in PAGES | BASE for a, b in both)


def test_no_modules_import_each_other_in_a_circle() -> None:
    left = {module: _known(module) for module in FILES}
    while loose := [module for module, known in left.items() if not known & left.keys()]:
        for module in loose:
            del left[module]
    on_a_circle = {
        module for module, known in left.items() if any(module in left[other] for other in known & left.keys())
    }
    assert not left, sorted(on_a_circle)


def test_no_public_class_has_the_name_of_another() -> None:
    """But for the probe, which ships by itself."""
    where: dict[str, list[str]] = {}
    for module, file in FILES.items():
        if not module.startswith("gatecheck.probe"):
            for node in _tree(file).body:
                if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                    where.setdefault(node.name, []).append(module)
    assert {name: modules for name, modules in where.items() if len(modules) > 1} == {}


def test_only_the_store_speaks_sql() -> None:
    speakers = {f.relative_to(PACKAGE).parts[0] for f in PACKAGE.rglob("*.py") if "sqlite3" in imports(f)}
    assert speakers == {"store"}
