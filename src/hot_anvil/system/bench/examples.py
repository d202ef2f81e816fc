"""The benches that ship with the tool, and laying them out."""

import re
import tomllib
from pathlib import Path

from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.results.examples import Example
from hot_anvil.errors import RequestError
from hot_anvil.system.store.files import write_whole

_DATA = Path(__file__).parent.parent.parent / "data"
_DEMO = _DATA / "demo"
_BESIDE = ("chip", "gpu")  # the demo's further benches
_WHOLE = {
    "chip": "what the gauge's small chip does: AVR and MSP430, simulated, in exact cycles",
    "between": "what compilers do away with between source and assembly: for 'stages', 'remarks'",
    "gpu": "kernels over a year of levels, on a simulated device: a racy rival among them",
    "pitfalls": "35 functions broken each in its own way, and sound ones: what check says",
    "unseen": "38 faults that no result shows by itself, and sound code beside them",
}
_BENCH = "anvil.toml"


def examples() -> tuple[Example, ...]:
    """Return the shipped snippets in the order of the demo bench, then the other benches."""
    _, *stanzas = _parts()
    out = []
    for stanza in stanzas:
        table = tomllib.loads(stanza)["snippet"][0]
        out.append(Example(table["name"], table["about"], tuple(table["sources"]), stanza))
    for name, about in _WHOLE.items():
        files = sorted(f.name for f in (_DATA / name).iterdir() if f.name != _BENCH)
        out.append(Example(name, about, tuple(files), ""))
    return tuple(out)


def lay_out_demo(folder: Path) -> tuple[str, ...]:
    """Write the whole demo bench into ``folder``; return the names of its files.

    A folder that already holds a bench is used as it is, so that a person's
    edits survive.
    """
    if not (folder / _BENCH).exists():
        _must_be_free(folder)
        further = ((_DATA / name, folder / name) for name in _BESIDE)
        for place, to in ((_DEMO, folder), *further):
            for file in sorted(place.iterdir()):
                if file.is_file():
                    write_whole(to / file.name, file.read_bytes())
    return tuple(sorted(file.name for file in folder.iterdir() if file.is_file()))


def lay_out_example(name: str, folder: Path) -> tuple[str, ...]:
    """Write one shipped snippet, or bench, into ``folder``; return the names of its files."""
    known = {example.name: example for example in examples()}
    if name not in known:
        raise RequestError(
            f"{name}: there is no such example.{did_you_mean(name, known)} "
            f"The examples: {listed(known)}.",
            about="example",
        )
    _must_be_free(folder)
    example = known[name]
    place = _DEMO if example.stanza else _DATA / name
    for source in example.sources:
        write_whole(folder / source, (place / source).read_bytes())
    bench = _parts()[0] + example.stanza if example.stanza else (place / _BENCH).read_text()
    write_whole(folder / _BENCH, bench)
    return (_BENCH, *example.sources)


def _parts() -> list[str]:
    """Return the head of the demo's bench file, then each snippet's stanza."""
    text = (_DEMO / _BENCH).read_text()
    return re.split(r"^(?=\[\[snippet\]\])", text, flags=re.MULTILINE)


def _must_be_free(folder: Path) -> None:
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise RequestError(f"{folder}: is there already and not empty; name another folder.")
