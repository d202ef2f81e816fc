"""What an artefact of the store holds: one folder, its files by what they are."""

from pathlib import Path
from typing import NamedTuple


class Artefact(NamedTuple):
    """The files of one artefact; which of them are there depends on what made it."""

    folder: Path

    @property
    def text(self) -> Path:
        """The compiler's assembly."""
        return self.folder / "code.s"

    @property
    def object(self) -> Path:
        """The object that runs."""
        return self.folder / "code.o"

    @property
    def code(self) -> Path:
        """Functions and instructions, as ``core.code`` writes them."""
        return self.folder / "code.json"

    @property
    def unit(self) -> Path:
        """How compiling it went."""
        return self.folder / "unit.json"

    @property
    def sources(self) -> Path:
        """The bench's own files that were read, as they were."""
        return self.folder / "sources.json"

    @property
    def remarks(self) -> Path:
        """What the compiler said that it did."""
        return self.folder / "remarks.json"

    @property
    def image(self) -> Path:
        """A build's sources linked to one image."""
        return self.folder / "image"

    @property
    def derived(self) -> Path:
        """Plain data worked out of other artefacts."""
        return self.folder / "derived.json"

    @property
    def debug_info(self) -> Path:
        """What was read from full debug info."""
        return self.folder / "told.json"

    @property
    def worker(self) -> Path:
        """A program that calls entries on request."""
        return self.folder / "worker"

    @property
    def library(self) -> Path:
        """A build as a library that a worker loads."""
        return self.folder / "library.so"

    @property
    def control(self) -> Path:
        """A second copy of that library, timed like another candidate."""
        return self.folder / "control.so"

    @property
    def same_code(self) -> Path:
        """A text that is equal for programs of equal code."""
        return self.folder / "same_code"

    @property
    def reaches(self) -> Path:
        """What keeps a library from sharing a process, nothing when it may."""
        return self.folder / "reaches"

    @property
    def program(self) -> Path:
        """A whole program of the bench."""
        return self.folder / "program"

    @property
    def archive(self) -> Path:
        """A static library."""
        return self.folder / "all.a"

    @property
    def counter(self) -> Path:
        """The emulator's plugin that counts instructions."""
        return self.folder / "count.so"

    @property
    def accesses(self) -> Path:
        """Of an emulator: logs what memory a call reads and writes."""
        return self.folder / "accesses.so"

    @property
    def tracer(self) -> Path:
        """Steps through a call on this processor and records it."""
        return self.folder / "trace"

    @property
    def tape(self) -> Path:
        """What each step of one call changed."""
        return self.folder / "tape"

    @property
    def stepper(self) -> Path:
        """What counts instructions one by one."""
        return self.folder / "step"

    @property
    def simulator(self) -> Path:
        """The worker that calls entries in a chip's simulator."""
        return self.folder / "simulator"

    @property
    def chip(self) -> Path:
        """What that worker is told of a program: the chip, the entries."""
        return self.folder / "chip.txt"

    @property
    def board(self) -> Path:
        """What emulates a worker's board: the command, a word a line, and the board's name."""
        return self.folder / "board"

    @property
    def launcher(self) -> Path:
        """What starts code under study."""
        return self.folder / "confine"

    @property
    def exports(self) -> Path:
        """What a library for a worker exports."""
        return self.folder / "exports.map"

    def part(self, name: str) -> Path:
        """Return one of the worker's own objects."""
        return self.folder / f"{name}.o"
