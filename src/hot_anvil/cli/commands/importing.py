"""``hot-anvil import``."""

import argparse
import sys
from pathlib import Path

from hot_anvil.cli.output import Output
from hot_anvil.core.names import visible

FORMS = ("text",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument("file", metavar="FILE", help="an export")
    parser.add_argument(
        "folder", nargs="?", default="", metavar="FOLDER",
        help="a new folder to lay it out in (default: the file's name)",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Lay an export out; nothing in it is compiled, run or measured."""
    from hot_anvil.api import import_export

    folder = args.folder or Path(args.file).name.split(".")[0] or "imported"
    found = import_export(args.file, folder)
    sys.stdout.write(
        f"{visible(found.folder)}: {visible(found.title)}, {len(found.answers)} answers\n"
        f"  hot-anvil history {visible(found.folder)}   what it holds\n"
        f"  hot-anvil show {visible(found.folder)}      its last answer again\n"
        f"  hot-anvil report {visible(found.folder)}    its page\n"
        "Code and page as they came lie in imported/; nothing there is ever run.\n"
    )
    for text in found.unreadable:
        sys.stderr.write(f"hot-anvil: cannot be read: {visible(text)}\n")
    return 0
