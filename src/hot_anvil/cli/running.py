"""Run one command: its module, its arguments, its errors as exit codes."""

import argparse
import os
import sys
from collections.abc import Sequence
from importlib import import_module

from hot_anvil.cli.options import FORMS, make_parser
from hot_anvil.cli.output import Output
from hot_anvil.core.names import visible
from hot_anvil.errors import AnvilError, FaultError, machine_trouble

# Parameter of the API -> the option that it comes from.
OPTIONS = {
    "at": "--at", "builds": "--build", "edits": "--before:", "entries": "--entry",
    "example": "--example", "find": "--find", "follow": "--follow", "function": "--into",
    "hide": "--hide",
    "imported": "--imported", "inputs": "--inputs", "lines": "--lines",
    "not_promised": "--not-promised", "on": "--on", "number": "--earlier", "numbers": "--compare",
    "replay": "--replay", "size": "--size",
    "weights": "--weight",
    "state": "--state", "sweep": "--sweep", "target": "--target", "tolerance": "--tolerance",
}  # fmt: skip


_MODULES = {"import": "importing"}  # a word of Python's own names no module


def command_parser(command: str, what: str) -> argparse.ArgumentParser:
    """Return the parser of ``command``, which answers ``what``."""
    module = import_module(f"hot_anvil.cli.commands.{_MODULES.get(command, command)}")
    forms = getattr(module, "FORMS", None) or (*FORMS, *getattr(module, "MORE_FORMS", ()))
    parser = make_parser(command, what, forms)
    module.add_arguments(parser)
    return parser


def run_command(command: str, what: str, words: Sequence[str]) -> int:
    """Run ``command`` (which answers ``what``) with its words; return its exit code."""
    module = import_module(f"hot_anvil.cli.commands.{_MODULES.get(command, command)}")
    out = None
    try:
        parser = command_parser(command, what)
        args = parser.parse_intermixed_args(words)
        out = Output(args)
        code: int = module.run(args, out)
        return code
    except AnvilError as error:
        if out:
            out.stop_progress()
        prefix = "hot-anvil: fault: " if isinstance(error, FaultError) else "hot-anvil: "
        option = OPTIONS.get(error.about, "")
        told = "\n".join(map(visible, str(error).split("\n")))
        sys.stderr.write(f"{prefix}{option}{' ' if option else ''}{told}\n")
        return error.exit_code
    except BrokenPipeError:
        raise
    except Exception as error:
        trouble = machine_trouble(error)
        if not trouble:
            return _fault(error)
        sys.stderr.write(f"hot-anvil: {trouble}\n")
        return trouble.exit_code
    finally:
        if out:
            out.stop_progress()
        _say_notices()


def _say_notices() -> None:
    notices = sys.modules.get("hot_anvil.system.process.notices")  # loaded where one was given
    for text in notices.take_notices() if notices else ():
        sys.stderr.write(f"hot-anvil: note: {visible(text)}\n")


def _fault(error: Exception) -> int:
    """Tell a fault of ours in one paragraph; with a traceback only when asked for."""
    if "HOT_ANVIL_TRACEBACK" in os.environ:
        raise error
    sys.stderr.write(
        f"hot-anvil: fault: {type(error).__name__}: {error}. This is a fault of Hot Anvil; "
        "set HOT_ANVIL_TRACEBACK=1, run the command again and report what it prints.\n"
    )
    return FaultError.exit_code
