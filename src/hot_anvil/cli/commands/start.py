"""``hot-anvil start``."""

import argparse
from pathlib import Path
from typing import Any

from hot_anvil.cli.output import Output
from hot_anvil.errors import RequestError
from hot_anvil.views.text.sheet import Sheet


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "sources", nargs="*", metavar="SOURCE",
        help="sources of one snippet; the bench is laid out in the folder of the first",
    )  # fmt: skip
    parser.add_argument(
        "--example", nargs="?", const="", metavar="NAME",
        help="lay out a shipped example; without NAME, list them",
    )  # fmt: skip
    parser.add_argument("--into", metavar="FOLDER", help="where an example goes (default: NAME)")


def run(args: argparse.Namespace, out: Output) -> int:
    """Lay out a bench, or list the examples."""
    if args.example is None and not args.sources:
        raise RequestError(
            "start needs the sources of a snippet, or --example NAME (without NAME it lists them)."
        )
    if args.example is not None and args.sources:
        raise RequestError("start takes sources or --example, not both.")
    if args.example == "":
        return _list(out)
    from hot_anvil.system.bench.examples import lay_out_example

    if args.example:
        folder = Path(args.into or args.example)
        files = lay_out_example(args.example, folder)
    else:
        folder, files = _from_sources(args.sources, out)
    _report(folder, files, out)
    return 0


def _list(out: Output) -> int:
    from hot_anvil.system.bench.examples import examples

    found = examples()

    def sheet() -> Sheet:
        made = Sheet(out.width)
        made.table(("example", "what it shows"), [(e.name, e.about) for e in found], "ll")
        return made

    rows = [{"name": e.name, "about": e.about, "sources": list(e.sources)} for e in found]
    out.answer(sheet, lambda: {"hot_anvil": 1, "kind": "start", "examples": rows})
    return 0


def _from_sources(sources: list[str], out: Output) -> tuple[Path, tuple[str, ...]]:
    """Write an ``anvil.toml`` beside the sources, with entries and a first guess of values."""
    from hot_anvil.api import open_source
    from hot_anvil.core.inputs.template import stanza
    from hot_anvil.system.store.files import write_whole

    folder = Path(sources[0]).parent
    file = folder / "anvil.toml"
    if file.exists():
        raise RequestError(f"{file}: is there already; it was left as it is.")
    workshop = open_source(sources[0], progress=out.progress)
    names = tuple(_inside(source, folder) for source in sources)
    snippet = workshop.bench.snippets[0]._replace(sources=names)
    workshop.bench = workshop.bench._replace(snippets=(snippet,))
    signatures = workshop.functions(snippet)
    if not any(signature.callable_with_values for signature in signatures):
        raise RequestError(
            f"{sources[0]}: no function here can be called with values that this version can "
            "make (numbers, structs of them, and pointers to either); a driver does the rest."
        )
    lines = [
        f"title = {_quoted(snippet.name)}",
        "",
        "[flags]",
        'plain = "-O0"',
        'lean  = "-Os"',
        'fast  = "-O3"',
        'wide  = "-O3 -march=native"',
        "",
        "[grid]",
        'flags = ["plain", "lean", "fast", "wide"]',
        "",
        "# One snippet for each function. To compare functions that must compute the same,",
        "# name them as the entries of one snippet. The values are a first guess: mend them so",
        "# that they are what the code meets in use.",
    ]
    for signature in signatures:
        if not signature.callable_with_values:
            continue
        lines += [
            "",
            "[[snippet]]",
            f"name    = {_quoted(signature.name)}",
            f"sources = [{', '.join(_quoted(name) for name in names)}]",
            f"entries = [{_quoted(signature.name)}]",
            f"# {signature.text}",
            stanza(snippet, [signature]),
        ]
    others = [f"#   {s.text}" for s in signatures if not s.callable_with_values]
    if others:
        lines += ["", "# Left out, for this version cannot make all their values:", *others]
    lines.append("")
    write_whole(file, "\n".join(lines))
    return folder, ("anvil.toml", *names)


def _inside(source: str, folder: Path) -> str:
    try:
        return str(Path(source).resolve().relative_to(folder.resolve()))
    except ValueError:
        raise RequestError(f"{source}: is not inside {folder}, the folder of the bench.") from None


def _quoted(text: str) -> str:
    import json

    return json.dumps(text, ensure_ascii=False)  # a JSON text is a TOML text


def _report(folder: Path, files: tuple[str, ...], out: Output) -> None:
    def sheet() -> Sheet:
        made = Sheet(out.width)
        made.add(f"laid out in {folder}: {', '.join(files)}")
        made.add(f"next: hot-anvil pick {folder}")
        return made

    plain: dict[str, Any] = {"hot_anvil": 1, "kind": "start"}
    out.answer(sheet, lambda: {**plain, "folder": str(folder), "files": list(files)})
