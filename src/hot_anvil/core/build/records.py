"""Results of compiling, as records."""

from typing import Literal, NamedTuple

from hot_anvil.core.build.builds import Build
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.proof.records import Proof
from hot_anvil.core.toolchain.diagnostics import Diagnostic

Status = Literal["compiled", "refused"]
COMPILED: Status = "compiled"
REFUSED: Status = "refused"


class Unit(NamedTuple):
    """One source compiled by one build: the one artefact shown, checked and timed."""

    source: str
    artefact: str  # name of the folder in the store, "" when refused without a record
    status: Status
    why: str  # for a refused one
    seconds: float  # the compiler's time when it made this artefact
    diagnostics: tuple[Diagnostic, ...]
    code_bytes: int | None  # None where there is no object, or not before linking
    sizes: dict[str, int]  # function symbol -> bytes
    proof: Proof


def refused_unit(
    source: str, why: str, seconds: float = 0.0, complaints: tuple[Diagnostic, ...] = ()
) -> Unit:
    """Return the unit of a source that was not compiled."""
    nothing = Proof("unknown", "it did not compile", 0, 0)
    return Unit(source, "", REFUSED, why, seconds, complaints, None, {}, nothing)


class Built(NamedTuple):
    """A snippet under one build."""

    snippet: Snippet
    build: Build
    units: tuple[Unit, ...]
    fresh: bool  # a compiler ran for it just now
    whole: Unit | None = None  # the linked whole, where code is made only while linking

    @property
    def shown(self) -> tuple[Unit, ...]:
        """The units that hold the code: its sources', or the linked whole."""
        return (self.whole,) if self.whole else self.units

    @property
    def all_units(self) -> tuple[Unit, ...]:
        """Every unit that a compiler or linker made for it."""
        return (*self.units, *((self.whole,) if self.whole else ()))

    @property
    def status(self) -> str:
        """COMPILED when every source compiled."""
        return REFUSED if any(unit.status == REFUSED for unit in self.all_units) else COMPILED

    @property
    def why(self) -> str:
        """Why it was refused, "" when it was not."""
        return next((unit.why for unit in self.all_units if unit.status == REFUSED), "")

    @property
    def seconds(self) -> float:
        """Seconds of the compiler for all sources, and of linking where code is made then."""
        return sum(unit.seconds for unit in self.all_units)

    @property
    def code_bytes(self) -> int | None:
        """Bytes of code, None where there is no object."""
        sizes = [unit.code_bytes for unit in self.shown if unit.code_bytes is not None]
        return sum(sizes) if len(sizes) == len(self.shown) else None

    @property
    def diagnostics(self) -> tuple[Diagnostic, ...]:
        """What the compiler complained about, over all sources."""
        return tuple(d for unit in self.all_units for d in unit.diagnostics)

    @property
    def proof(self) -> Proof:
        """The weakest proof of its units."""
        order = {"broken": 0, "unknown": 1, "proved": 2}
        nothing = Proof("unknown", "no source of it was compiled", 0, 0)
        proofs = [unit.proof for unit in self.shown]
        return min(proofs, key=lambda proof: order[proof.state], default=nothing)

    def entry_bytes(self, symbol: str) -> int | None:
        """Bytes of one function with its cold part, None when it has no symbol."""
        sizes = [
            size
            for unit in self.shown
            for name, size in unit.sizes.items()
            if name == symbol or name.startswith(symbol + ".cold")
        ]
        return sum(sizes) if sizes else None
