"""``hot-anvil frame``."""

import argparse

from hot_anvil.cli.options import add_named_builds, one_build, open_anvil, split_path
from hot_anvil.cli.output import Output, document


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    add_named_builds(parser, "BUILD", "the build to look at")


def run(args: argparse.Namespace, out: Output) -> int:
    """Show where a function's variables live."""
    from hot_anvil.views.text.frame import frame_report

    path, names = split_path(args.words)
    anvil = open_anvil(args, out, path)
    name = one_build("frame", anvil, names)
    frames = anvil.frames(name, args.snippet, args.entry)
    out.answer(lambda: frame_report(frames, out.width), lambda: document("frame", "frame", frames))
    return 0
