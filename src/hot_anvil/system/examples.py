"""The benches that ship with the tool, and laying them out."""

import re
import tomllib
from pathlib import Path
from typing import NamedTuple

from hot_anvil.core.errors import RequestError
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.system.files import write_whole

_DEMO = Path(__file__).parent.parent / "data" / "demo"
_BENCH = "anvil.toml"


class Example(NamedTuple):
    """One shipped snippet."""

    name: str
    about: str
    sources: tuple[str, ...]
    stanza: str  # its part of the demo's anvil.toml


def examples() -> tuple[Example, ...]:
    """Return the shipped snippets in the order of the demo bench."""
    _, *stanzas = _parts()
    out = []
    for stanza in stanzas:
        table = tomllib.loads(stanza)["snippet"][0]
        out.append(Example(table["name"], table["about"], tuple(table["sources"]), stanza))
    return tuple(out)


def lay_out_demo(folder: Path) -> tuple[str, ...]:
    """Write the whole demo bench into ``folder``; return the names of its files.

    A folder that already holds a bench is used as it is, so that a person's
    edits survive.
    """
    if not (folder / _BENCH).exists():
        _must_be_free(folder)
        for file in sorted(_DEMO.iterdir()):
            if file.is_file():
                write_whole(folder / file.name, file.read_bytes())
    return tuple(sorted(file.name for file in folder.iterdir() if file.is_file()))


def lay_out_example(name: str, folder: Path) -> tuple[str, ...]:
    """Write one shipped snippet as a bench of its own; return the names of its files."""
    known = {example.name: example for example in examples()}
    if name not in known:
        raise RequestError(
            f"--example {name}: there is no such example.{did_you_mean(name, known)} "
            f"The examples: {listed(known)}."
        )
    _must_be_free(folder)
    example = known[name]
    for source in example.sources:
        write_whole(folder / source, (_DEMO / source).read_bytes())
    write_whole(folder / _BENCH, _parts()[0] + example.stanza)
    return (_BENCH, *example.sources)


def _parts() -> list[str]:
    """Return the head of the demo's bench file, then each snippet's stanza."""
    text = (_DEMO / _BENCH).read_text()
    return re.split(r"^(?=\[\[snippet\]\])", text, flags=re.MULTILINE)


def _must_be_free(folder: Path) -> None:
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise RequestError(f"{folder}: is there already and not empty; name another folder.")
