"""``hot-anvil demo``."""

import argparse
import shlex
import sys

from hot_anvil.cli.output import Output

FOLDER = "tide-gauge"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """Add the command's own options."""
    parser.add_argument(
        "folder", nargs="?", default=FOLDER, metavar="FOLDER",
        help=f"where to set the bench out (default: {FOLDER}); one that is there is used as it is",
    )  # fmt: skip


def run(args: argparse.Namespace, out: Output) -> int:
    """Set out the demo bench and run the commands on it that make the whole job."""
    from hot_anvil.api import lay_out_demo
    from hot_anvil.cli.main import COMMANDS
    from hot_anvil.cli.running import run_command

    files = lay_out_demo(args.folder)
    if out.form == "json":
        words = [args.folder, "--format", "json"]
        return run_command("pick", COMMANDS["pick"], words + (["--out", out.file] * bool(out.file)))
    _tell(f"The demo bench is in {args.folder}: anvil.toml and {len(files) - 1} sources")
    steps = [
        ("compile", [args.folder], "What did each build make of the sources?"),
        (
            "diff",
            [args.folder, "gcc:plain", "gcc:fast", "--entry", "checksum_hasty"],
            "One function under two builds: look at the line 'if (next < sum)'.",
        ),
        (
            "diff",
            [args.folder, "crossings_signed@gcc:fast", "crossings_mixed@gcc:fast"],
            "Two functions meant to do the same: where do they not?",
        ),
        ("pick", [args.folder], "Which builds are correct, and which of those is fastest?"),
        (
            "measure",
            [f"{args.folder}/chip", "--seconds", "0.5"],
            "What does the gauge's small chip take? It is simulated, where its compilers are here.",
        ),
    ]
    Output.pages = False  # several answers in a row are read as one
    code = 0
    for command, words, question in steps:
        _tell(f"\n{question}\n$ hot-anvil {shlex.join([command, *words])}\n")
        code = run_command(command, COMMANDS[command], words)
        if code:
            return code
    command, words = "launch", [f"{args.folder}/gpu", "--snippet", "histogram"]
    _tell(
        "\nWhat do kernels do? They run on a simulated device, where a compiler for them is here."
    )
    _tell(f"$ hot-anvil {shlex.join([command, *words])}\n")
    run_command(command, COMMANDS[command], words)  # which says what is missing
    return 0


def _tell(text: str) -> None:
    sys.stdout.write(text + "\n")
    sys.stdout.flush()
