"""Check the direction of imports: cli -> api, views, system -> core.

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
    "api": {"core", "system"},
    "cli": {"api", "cli", "core", "system", "views"},
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
            where = f"{file}:{line}"
            names = module.split(".")
            if names[0] == "hot_anvil" and len(names) > 1:
                if part in ALLOWED and names[1] not in ALLOWED[part]:
                    found.append(f"{where}: {part} must not import {module}")
            elif part == "core" and module not in ALSO_FINE_IN_CORE:
                if names[0] in FORBIDDEN_IN_CORE:
                    found.append(f"{where}: core must not import {module}")
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
                if node.func.id in ("print", "open", "input") and part in ("core", "views"):
                    found.append(f"{file}:{node.lineno}: {part} must not call {node.func.id}")
    return found


def main() -> int:
    """Print the breaches; return 1 when there is one."""
    found = breaches(ROOT)
    sys.stdout.write("".join(f"{line}\n" for line in found))
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
