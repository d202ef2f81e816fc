"""Check the shape of the code: who may import whom, and that nothing goes in a circle.

    python tools/import_rules.py [--figures]

Enforced, over every import of every module, also those inside functions and for type checkers only:

- cli -> api -> usecases -> workspace -> system -> core, cli -> views -> core, all -> errors; the
  command line reaches the machine through ``api`` alone. Nothing below imports ``api``.
- Inside ``core`` and ``system`` a package imports only packages before it in CORE and SYSTEM;
  a kind of view builds on those that VIEWS names, so ``views.text`` and ``views.json`` on none.
- No circle between modules, nor between packages, anywhere; nor between the parts of the C worker,
  whose ``worker.c`` nothing calls.
- ``core`` touches no file, process, clock, terminal or environment, and makes nothing random;
  ``core`` and ``views`` do not print, open or ask.

Prints each breach and exits 1 when there is one. ``--figures`` prints how many modules each package
has and how many imports cross packages.
"""

import ast
import re
import sys
from collections import Counter
from collections.abc import Iterator, Mapping
from pathlib import Path

ROOT = Path(__file__).parent.parent / "src" / "hot_anvil"

# Each imports only what stands before it.
CORE = (
    "names", "parallel", "codec", "code", "arch", "asm", "binary", "model", "evaluate", "facts",
    "toolchain", "config", "proof", "build", "inputs", "calling", "remarks", "diff", "stages",
    "reasons", "verify", "measure", "flags", "experiments", "pins", "trace", "kernels", "fleet",
    "results",
)  # fmt: skip
SYSTEM = (
    "process",
    "store",
    "toolchain",
    "bench",
    "build",
    "asking",
    "execute",
    "check",
    "measure",
    "trace",
    "fleet",
)
# Kind of view -> those that it may build on.
VIEWS: Mapping[str, tuple[str, ...]] = {
    "json": (),
    "text": (),
    "markdown": ("text",),
    "tools": ("json",),  # files for other programs
    "plots": ("text",),  # its words for numbers
    "page": ("text", "plots"),
}
# Part of the package -> parts it may import from, itself and errors aside.
PARTS: Mapping[str, tuple[str, ...]] = {
    "errors": (),
    "_version": (),
    "core": (),
    "system": ("core",),
    "workspace": ("core", "system"),
    "usecases": ("core", "system", "workspace"),
    "api": ("core", "system", "usecases", "workspace"),
    "fleets": ("api", "core", "system", "usecases", "workspace"),  # the api of many machines
    "serving": ("system", "usecases"),  # what a worker of a fleet runs
    "views": ("core",),
    "cli": ("api", "core", "fleets", "views"),
}
# What the core must not touch: processes, terminals, files, clocks, the environment, chance.
FORBIDDEN_IN_CORE = {
    "argparse", "logging", "os", "pathlib", "random", "rich", "secrets", "shutil", "signal",
    "socket", "sqlite3", "subprocess", "sys", "tempfile", "threading", "time",
}  # fmt: skip
ALSO_FINE_IN_CORE = {"os.path"}  # text only
LISTS_ITSELF = "core.arch"  # finds its own folders by their names
Graph = dict[str, set[str]]


def modules(root: Path) -> dict[str, Path]:
    """Return the modules below ``root`` by their dotted names, "" for the package itself."""
    found = {}
    for file in sorted(root.rglob("*.py")):
        parts = file.relative_to(root).with_suffix("").parts
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = file
    return found


def imports(file: Path, known: Mapping[str, Path]) -> Iterator[tuple[int, str]]:
    """Give (line, module) of every import: ours by its dotted name, others with a leading "!"."""
    for node in ast.walk(ast.parse(file.read_text())):
        if isinstance(node, ast.Import):
            yield from ((node.lineno, f"!{alias.name}") for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            first, _, rest = node.module.partition(".")
            if first != "hot_anvil":
                yield node.lineno, f"!{node.module}"
                continue
            for alias in node.names:
                inner = f"{rest}.{alias.name}".lstrip(".")
                yield node.lineno, inner if inner in known else rest


def package_of(module: str) -> str:
    """Return the package that a module counts to: ``core.diff``, ``cli``, ``usecases``."""
    parts = module.split(".")
    return ".".join(parts[:2]) if parts[0] in ("core", "system", "views") else parts[0]


def breaches(root: Path) -> list[str]:
    """Return every breach of the rules below ``root``."""
    known = modules(root)
    found = []
    graph: Graph = {module: set() for module in known}
    for module, file in known.items():
        for line, other in imports(file, known):
            if other.startswith("!"):
                allowed = not module.startswith("core") or may_touch(other[1:], module)
            else:
                allowed = may_import(module, other)
                if other != module:
                    graph[module].add(other)
            if not allowed:
                found.append(f"{file}:{line}: {module} must not import {other.lstrip('!')}")
        if module.startswith(("core", "views")):
            found += [f"{file}:{line}: must not call {name}" for line, name in calls(file)]
    found += [f"circle of modules: {' -> '.join(circle)}" for circle in circles(graph)]
    found += [f"circle of packages: {' -> '.join(circle)}" for circle in circles(packages(graph))]
    return found + native_breaches(root / "native")


def may_touch(module: str, by: str) -> bool:
    """Tell whether a module of the core may import a module of the library."""
    if (module, by) == ("os", LISTS_ITSELF):
        return True
    return module in ALSO_FINE_IN_CORE or module.partition(".")[0] not in FORBIDDEN_IN_CORE


def may_import(module: str, other: str) -> bool:
    """Tell whether a module may import another of ours."""
    (part, *inner), (goal, *inner_goal) = module.split("."), other.split(".")
    if part in ("", "__main__") or goal in ("errors", "_version"):
        return True
    if part != goal:
        return goal in PARTS[part]
    order = {"core": CORE, "system": SYSTEM}.get(part)
    if order and inner and inner_goal:
        return order.index(inner_goal[0]) <= order.index(inner[0])
    if part != "views" or not inner or not inner_goal or inner[0] == inner_goal[0]:
        return True
    return inner_goal[0] in VIEWS[inner[0]]


def packages(graph: Graph) -> Graph:
    """Return which package imports which."""
    out: Graph = {}
    for module, others in graph.items():
        own = out.setdefault(package_of(module), set())
        own |= {package_of(other) for other in others} - {package_of(module)}
    return {name: {other for other in others if other in out} for name, others in out.items()}


def circles(graph: Graph) -> list[list[str]]:
    """Return the strongly connected parts of more than one node (Tarjan 1972)."""
    number: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    out = []

    def visit(node: str) -> None:
        number[node] = low[node] = len(number)
        stack.append(node)
        for other in sorted(graph.get(node, ())):
            if other not in number:
                visit(other)
                low[node] = min(low[node], low[other])
            elif other in stack:
                low[node] = min(low[node], number[other])
        if low[node] == number[node]:
            at = stack.index(node)
            part = stack[at:]
            del stack[at:]
            if len(part) > 1:
                out.append(sorted(part))

    for node in sorted(graph):
        if node not in number:
            visit(node)
    return out


def calls(file: Path) -> list[tuple[int, str]]:
    """Return (line, name) of calls that read or write the outside world."""
    return [
        (node.lineno, node.func.id)
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.Call)
        and isinstance(node.func, ast.Name)
        and node.func.id in ("print", "open", "input")
    ]


def native_graph(folder: Path) -> Graph:
    """Return which part of the C worker uses what another one defines, as ``worker.h`` says."""
    texts = {
        f.name: re.sub(r"/\*.*?\*/", "", f.read_text(), flags=re.S) for f in folder.glob("*.c")
    }
    home: dict[str, str] = {}
    part = ""
    for line in (folder / "worker.h").read_text().split("\n"):
        heading = re.match(r"/\* (\w+\.c)\b", line)
        part = heading[1] if heading else part
        declared = re.match(r"(?:extern )?[\w *]*?(\w+)(?:\(|;|, )", line)
        if part and declared and not heading:
            home[declared[1]] = part
    return {
        name: {home[word] for word in set(re.findall(r"\w+", text)) & home.keys()} - {name}
        for name, text in texts.items()
    }


def native_breaches(folder: Path) -> list[str]:
    """Return the circles between parts of the C worker, and who calls ``worker.c``."""
    graph = native_graph(folder)
    found = [f"circle in native: {' -> '.join(circle)}" for circle in circles(graph)]
    callers = [name for name, others in graph.items() if "worker.c" in others]
    return found + [f"native/{name} uses worker.c, which only dispatches" for name in callers]


def figures(root: Path) -> str:
    """Return how many modules each package has, and how many imports cross packages."""
    known = modules(root)
    sizes = Counter(package_of(module) for module in known if module)
    arrows = {
        (module, other)
        for module, file in known.items()
        for _, other in imports(file, known)
        if not other.startswith("!") and package_of(other) != package_of(module)
    }
    rows = [f"{count:>4}  {name}" for name, count in sorted(sizes.items())]
    return "\n".join(
        [*rows, f"{sum(sizes.values())} modules, {len(arrows)} imports cross packages"]
    )


def main() -> int:
    """Print the breaches, or the figures; return 1 when there is a breach."""
    if "--figures" in sys.argv:
        sys.stdout.write(figures(ROOT) + "\n")
        return 0
    found = breaches(ROOT)
    sys.stdout.write("".join(f"{line}\n" for line in found))
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
