"""Check the direction of imports: cli -> api -> steps -> system -> core, cli -> views -> core.

Run by ``make lint``; prints each breach as file:line and exits 1.
"""

import ast
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent / "src" / "hot_anvil"

# Part of the package -> parts it may import from.
ALLOWED = {
    "core": {"core"},
    "system": {"core", "system"},
    "views": {"core", "views"},
    "api": {"core", "steps", "system"},
    "steps": {"api", "core", "steps", "system"},
    "cli": {"api", "cli", "core", "steps", "system", "views"},
}
# What the core must not touch: processes, terminals, files, clocks, the environment.
FORBIDDEN_IN_CORE = {
    "argparse", "logging", "os", "pathlib", "random", "rich", "secrets", "shutil", "signal",
    "socket", "sqlite3", "subprocess", "sys", "tempfile", "threading", "time",
}  # fmt: skip
ALSO_FINE_IN_CORE = {"os.path"}  # text only


def imports(tree: ast.Module) -> list[tuple[int, str]]:
    """Return (line, module) for every import in a module, also inside functions."""
    out = []
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            out += [(node.lineno, alias.name) for alias in node.names]
        elif isinstance(node, ast.ImportFrom) and node.module:
            out.append((node.lineno, node.module))
    return out


def breaches(root: Path) -> list[str]:
    """Return every breach of the rules below ``root``."""
    found = []
    for file in sorted(root.rglob("*.py")):
        inside = file.relative_to(root)
        part = inside.parts[0] if len(inside.parts) > 1 else inside.stem
        tree = ast.parse(file.read_text())
        for line, module in imports(tree):
            if not may_import(part, module):
                found.append(f"{file}:{line}: {part} must not import {module}")
        if part in ("core", "views"):
            found += [f"{file}:{line}: {part} must not call {name}" for line, name in calls(tree)]
    return found


def may_import(part: str, module: str) -> bool:
    """Tell whether a part of the package may import a module."""
    first, _, rest = module.partition(".")
    if first == "hot_anvil":
        return part not in ALLOWED or not rest or rest.split(".")[0] in ALLOWED[part]
    return part != "core" or module in ALSO_FINE_IN_CORE or first not in FORBIDDEN_IN_CORE


def calls(tree: ast.Module) -> list[tuple[int, str]]:
    """Return (line, name) of calls that read or write the outside world."""
    return [
        (node.lineno, node.func.id)
        for node in ast.walk(tree)
        if isinstance(node, ast.Call)
        and isinstance(node.func, ast.Name)
        and node.func.id in ("print", "open", "input")
    ]


def main() -> int:
    """Print the breaches; return 1 when there is one."""
    found = breaches(ROOT)
    sys.stdout.write("".join(f"{line}\n" for line in found))
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
