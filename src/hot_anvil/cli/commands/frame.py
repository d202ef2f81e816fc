"""``hot-anvil frame``."""

import argparse

from hot_anvil.cli.options import add_named_builds, one_build, open_workshop, split_path
from hot_anvil.cli.output import Output


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "BUILD", "the build to look at")


def run(args: argparse.Namespace, out: Output) -> int:
    """Show where a function's variables live."""
    from hot_anvil.views.text.frame import frame_document, frame_sheet

    path, names = split_path(args.words)
    workshop = open_workshop(args, out, path)
    name = one_build("frame", workshop, names)
    frames = workshop.frames(name, args.snippet, args.entry)
    out.answer(lambda: frame_sheet(frames, out.width), lambda: frame_document(frames))
    return 0
