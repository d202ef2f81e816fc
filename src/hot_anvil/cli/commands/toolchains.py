"""``hot-anvil toolchains``."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from hot_anvil.cli.output import Output, document

if TYPE_CHECKING:
    from hot_anvil.core.config.records import Bench
    from hot_anvil.system.toolchain.finding import Found


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "path", nargs="?", default="", metavar="PATH",
        help="a bench whose own toolchains are shown too",
    )  # fmt: skip
    parser.add_argument(
        "--where", action="store_true",
        help="show instead where each toolchain and each default comes from",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Show the compilers of this machine; exit code 3 when there is none."""
    from hot_anvil.system.bench.opening import open_bench_file
    from hot_anvil.system.bench.settings import load_settings
    from hot_anvil.system.toolchain.finding import find_toolchains, with_abilities
    from hot_anvil.views.text.toolchains import toolchains_sheet, where_sheet

    bench = open_bench_file(Path(args.path)) if args.path else None
    custom = bench.custom if bench else load_settings().custom
    found = find_toolchains(custom, bench.root if bench else ".")
    found = found._replace(toolchains=tuple(map(with_abilities, found.toolchains)))
    if args.where:
        places = _places(found, bench)
        rows = [{"what": what, "from": place} for what, place in places]
        out.answer(lambda: where_sheet(places, out.width), lambda: document("places", rows))
        return 0
    out.answer(
        lambda: toolchains_sheet(found.families, found.toolchains, found.silent, out.width),
        lambda: document("toolchains", found.toolchains, found.silent),
    )
    return 0 if found.toolchains else 3


def _places(found: "Found", bench: "Bench | None") -> list[tuple[str, str]]:
    """Return what came from where: settings, defaults, toolchains."""
    from hot_anvil.system.bench.settings import load_settings, settings_file
    from hot_anvil.system.store.files import user_cache

    file = settings_file()
    own = load_settings()
    places = [
        ("your settings", f"{file}" + ("" if file.is_file() else " (not there: none)")),
        ("answers of compilers", str(user_cache() / "toolchains.json")),
    ]
    # A bench's values lie over the person's: what is the same came from them.
    custom = bench.custom if bench else own.custom
    defaults = bench.defaults if bench else own.defaults
    theirs = bench.file if bench else ""
    named = {c.name: str(file) if c in own.custom else theirs for c in custom}
    for key, value in defaults.items():
        place = str(file) if own.defaults.get(key) == value else theirs
        places.append((f"default {key} = {value}", place))
    for chain in found.toolchains:
        if "@" in chain.name:
            continue
        paths = ", ".join(dict.fromkeys(driver.path for driver in chain.drivers.values()))
        source = f" ({named[chain.name]})" if chain.name in named else ""
        places.append((chain.name, paths + source))
    return places
