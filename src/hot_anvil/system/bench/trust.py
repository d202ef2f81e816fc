"""Opening is executing: what a bench would have run, and whether the person trusts it.

Kept in the person's settings folder by content: a bench that asks for something else, or whose
programs changed, is asked about again.
"""

import re
from collections.abc import Iterator, Mapping
from pathlib import Path

from hot_anvil.core.config.records import Bench
from hot_anvil.core.config.running_flags import running_flags, words_of
from hot_anvil.errors import UntrustedError
from hot_anvil.system.bench.settings import settings_file
from hot_anvil.system.store.files import digest, digest_file, write_whole


def programs_of(bench: Bench) -> list[str]:
    """Return in words what a bench file would have run: compilers of its own, and flags."""
    return list(dict.fromkeys([*_compilers(bench), *(f"the flag {f}" for f in _flags(bench))]))


def _compilers(bench: Bench) -> Iterator[str]:
    for custom in bench.custom:
        yield f"{Path(bench.root, custom.command)}, as the compiler {custom.name}"


def _flags(bench: Bench) -> Iterator[str]:
    for given in bench.flags.values():
        for text in given.values() if isinstance(given, Mapping) else [given]:
            if isinstance(text, str):
                yield from running_flags(words_of(text))
    for custom in bench.custom:
        yield from running_flags(custom.flags)
    for snippet in bench.snippets:
        for own in (*snippet.source_flags.values(), *snippet.project_flags.values()):
            yield from running_flags(own)
        yield from running_flags(snippet.link_flags)
    for build in bench.explicit:
        yield from running_flags(words_of(build)[1:])


def must_be_trusted(bench: Bench, trust: bool) -> None:
    """Raise UntrustedError for a bench that runs programs which nobody said it may.

    ``trust`` says it now, and keeps it. ``bench`` is as its file has it, without what the person's
    settings or the command line say.
    """
    programs = programs_of(bench)
    if not programs:
        return
    files = re.findall(r"[^\s,=:;@]*[/.][^\s,=:;]*", " ".join(programs))
    contents = (digest_file(Path(bench.root, file)) or "" for file in files)
    key = digest(bench.root, *programs, *contents)
    kept = settings_file().parent / "trusted" / key
    if kept.is_file():
        return
    if not trust:
        raise UntrustedError(bench.file, tuple(programs))
    write_whole(kept, f"{bench.file}\n")
