"""The tests that belong to what was changed since the last commit, one file a line; `make check` runs them.

A test belongs to a module that it imports itself. Tests that start servers and browsers come along only where they were
changed themselves: `make test` has them."""

from __future__ import annotations

import ast
import subprocess
from pathlib import Path

ROOT = Path(__file__).parents[1]
SLOW = ("tests/browser/", "tests/lab/", "tests/link/")
ALWAYS = ("tests/core/test_house.py",)


def changed() -> set[str]:
    """Files that differ from the last commit, those that git does not know yet included."""
    asked = (["git", "diff", "--name-only", "HEAD"], ["git", "ls-files", "--others", "--exclude-standard"])
    said = [subprocess.run(c, cwd=ROOT, capture_output=True, text=True, check=True).stdout for c in asked]
    return {line for text in said for line in text.splitlines()}


def modules_of(file: Path) -> set[str]:
    """Modules that a test imports, with those that stand for a name in them."""
    found = set()
    for node in ast.walk(ast.parse(file.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module} | {f"{node.module}.{alias.name}" for alias in node.names}
        elif isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
    return found


def tests_of(files: set[str]) -> list[str]:
    """Test files to run for these changed ones."""
    changed_modules = {
        file.removeprefix("src/").removesuffix(".py").replace("/", ".") for file in files if file.startswith("src/")
    }
    found = set(ALWAYS)
    for test in ROOT.glob("tests/**/test_*.py"):
        name = test.relative_to(ROOT).as_posix()
        if name in files or (not name.startswith(SLOW) and modules_of(test) & changed_modules):
            found.add(name)
    return sorted(found)


if __name__ == "__main__":
    print("\n".join(tests_of(changed())))
