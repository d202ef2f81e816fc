"""Write the completions for shells and the man page, from the commands' own parsers.

    python tools/shell_files.py

They lie in share/, from where the package installs them; a test compares what is there with what
this would write.
"""

import argparse
import sys
from collections.abc import Iterator
from pathlib import Path

SHARE = Path(__file__).parent.parent / "share"


def files() -> dict[str, str]:
    """Return what belongs into each file below share/."""
    import shtab

    from hot_anvil._version import __version__
    from hot_anvil.cli.whole import whole_parser

    parser = whole_parser()
    for own in _parsers(parser):
        for action in own._actions:
            if getattr(action, "complete", None) == "file":
                action.complete = shtab.FILE  # type: ignore[attr-defined]
    return {
        "bash-completion/completions/hot-anvil": shtab.complete(parser, "bash"),
        "zsh/site-functions/_hot-anvil": shtab.complete(parser, "zsh"),
        "man/man1/hot-anvil.1": _manual(__version__),
    }


def _parsers(parser: argparse.ArgumentParser) -> Iterator[argparse.ArgumentParser]:
    yield parser
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            yield from action.choices.values()


def _manual(version: str) -> str:
    from argparse_manpage.manpage import Manpage

    from hot_anvil.cli.whole import whole_parser

    parser = whole_parser()
    data = {
        "project_name": "Hot Anvil",
        "version": version,
        "description": "pick the fastest correct build of a small piece of native code",
        "manual_section": "1",
        "manual_title": "Hot Anvil",
        "date": "2026",  # of no day: the same commands make the same page
    }
    return str(Manpage(parser, _data=data))


def main() -> None:
    """Write the files."""
    for name, text in files().items():
        file = SHARE / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)
        sys.stdout.write(f"share/{name}\n")


if __name__ == "__main__":
    main()
