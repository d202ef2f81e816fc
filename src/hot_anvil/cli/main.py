"""Entry point: find the command, run it, turn errors into exit codes."""

import sys

from hot_anvil._version import __version__

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence

# Name -> (what it answers, does it take a bench or source?). A module of the
# same name in hot_anvil.cli.commands is loaded only when its command is used.
COMMANDS = {
    "demo": "set out the demo bench in a folder and do the whole job on it",
    "start": "lay out a new bench from an example or from sources",
    "toolchains": "which compilers are here, and what each can do",
    "compile": "the grid of builds: compiled or refused, warnings by line, code bytes",
    "listing": "one build's code by source line",
    "ledger": "all builds by source line: counts, marks, where they disagree",
    "diff": "two builds, two entries, or before and after an edit, by source line, with reasons",
    "facts": "what the optimiser made of each function and loop, per build",
    "remarks": "what the compilers did, what they could not do and why, by source line",
    "stages": "a compiler's forms of a function between source and assembly, pass by pass",
    "calls": "what C++ lines really call, in order, and what each build left of it",
    "frame": "where a function's variables live: registers and stack slots, by instruction",
    "image": "where code and data end up: sections, addresses, the biggest things first",
    "explain": "what an instruction does, in words, for each target",
    "expect": "whether the facts hold that the bench says must hold",
    "watch": "all of it again on every save: what an edit did to the code of each build",
    "check": "which candidates compute the right thing",
    "measure": "how fast each correct candidate is",
    "narrow": "which of the flags in which two builds differ matter: the fewest that do",
    "whatif": "what would help: flags and edits tried on one entry, and what each rests on",
    "fleet": "the machines that a scheduler joins: what each has, and which may be compared",
    "hotspots": "where the time goes: by source line and instruction, beside the diff of two",
    "step": "one call, instruction by instruction; two builds up to where they first disagree",
    "launch": "kernels on a simulated device: what each line did, which block ran where",
    "pins": "what a chip's pins do under each build of a program: period, jitter, in cycles",
    "history": "what was measured before, and what an edit or a new compiler changed",
    "pick": "the whole job: compile, check, measure, choose the fastest correct one",
    "report": "one page to keep: the choice, every source line under all builds, and why",
    "show": "a past answer again, exactly as it was, by the number that 'history' lists",
    "export": "one file with the bench, what was found out about it, and its code",
    "import": "lay such a file out as a bench, to look at; nothing in it is run",
}
INTERRUPTED = 130


def main(argv: "Sequence[str] | None" = None) -> int:
    """Run the command line and return its exit code."""
    _with_streams()
    words = list(sys.argv[1:] if argv is None else argv)
    if words in (["--version"], ["-V"]):
        sys.stdout.write(f"hot-anvil {__version__}\n")
        return 0
    if not words or words[0] in ("-h", "--help", "help"):
        sys.stdout.write(_overview())
        return 0 if words else 2
    if words[0] not in COMMANDS:
        return _unknown(words[0])
    try:
        import gc

        gc.set_threshold(200_000)  # commands make many records, and next to none in circles
        from hot_anvil.cli.running import run_command

        return run_command(words[0], COMMANDS[words[0]], words[1:])
    except KeyboardInterrupt:
        sys.stderr.write("hot-anvil: interrupted; everything finished is kept\n")
        return INTERRUPTED
    except BrokenPipeError:
        # The reader of our output went away, as "| head" does: not an error. What is
        # still buffered must go somewhere when Python ends.
        import os

        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0


def _with_streams() -> None:
    """Write to nowhere where standard output or error was closed by who started us."""
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:
            setattr(sys, name, open("/dev/null", "w"))  # noqa: PTH123, SIM115 - loads nothing


def _overview() -> str:
    width = max(len(name) for name in COMMANDS)
    lines = [
        "hot-anvil: pick the fastest correct build of a small piece of native code",
        "",
        "  hot-anvil COMMAND [PATH] ...    PATH: a bench (a folder with anvil.toml), or one source",
        "",
        *(f"  {name:<{width}}  {what}" for name, what in COMMANDS.items()),
        "",
        "  hot-anvil COMMAND --help    the options of a command",
        "  hot-anvil --version",
        "",
        "New here? 'hot-anvil demo' shows the whole job on a small example.",
        "",
    ]
    return "\n".join(lines)


def _unknown(name: str) -> int:
    from hot_anvil.core.names import did_you_mean, listed

    hint = did_you_mean(name, COMMANDS)
    sys.stderr.write(
        f"hot-anvil: there is no command '{name}'.{hint} The commands: {listed(COMMANDS)}.\n"
    )
    return 2
