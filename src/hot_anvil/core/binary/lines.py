"""Source lines and inlined calls of a linked image, from its DWARF debug info.

The image must be linked: in a relocatable object all sections start at 0, so
their rows would overlap.
"""

from bisect import bisect_right
from collections.abc import Iterable
from typing import Any, NamedTuple

from hot_anvil.core.binary.dwarf import open_dwarf
from hot_anvil.core.binary.variable_types import lookup, text_of
from hot_anvil.core.code.records import Site
from hot_anvil.core.code.text import normal_path


class Inlined(NamedTuple):
    """A stretch of code that came from an inlined function."""

    function: str
    chain: tuple[Site, ...]  # the calls, innermost first


class DebugLines:
    """Looks up addresses of one image; of none, when there are no bytes."""

    def __init__(self, data: bytes, folder: str, only_inlined: bool = False) -> None:
        self.folder = folder
        self.only_inlined = only_inlined  # do without source lines, which take longest to read
        # Address, 0 for the end of a sequence, else 1, and file and line from there on.
        self._rows: list[tuple[int, int, str, int]] = []
        self._stretches: list[tuple[int, Inlined | None]] = []
        self._row_starts: list[int] = []
        self._stretch_starts: list[int] = []
        self.has_info = False
        if data:
            self._read(data)

    def _read(self, data: bytes) -> None:
        _, dwarf = open_dwarf(data)
        self.has_info = dwarf is not None
        if self.has_info:
            for unit in dwarf.iter_CUs():
                files = self._read_lines(dwarf, unit)
                self._read_inlined(dwarf, unit, files)
        # Where one sequence ends and another starts, the start counts.
        self._rows.sort(key=lambda row: row[:2])
        self._stretches.sort(key=lambda item: item[0])
        self._row_starts = [row[0] for row in self._rows]
        self._stretch_starts = [item[0] for item in self._stretches]

    def line(self, address: int) -> tuple[str, int]:
        """Return (file, line) of the instruction at ``address``; ("", 0) when there is none."""
        at = bisect_right(self._row_starts, address) - 1
        return self._rows[at][2:] if at >= 0 else ("", 0)

    def inlined(self, address: int) -> Inlined | None:
        """Return what the instruction was inlined from, None when it was not."""
        at = bisect_right(self._stretch_starts, address) - 1
        return self._stretches[at][1] if at >= 0 else None

    def _read_lines(self, dwarf: Any, unit: Any) -> dict[int, str]:
        program = dwarf.line_program_for_CU(unit)
        if program is None:
            return {}
        files = _files(program, unit, self.folder)
        if self.only_inlined:
            return files
        for entry in program.get_entries():
            state = entry.state
            if state is None:
                continue
            file = files.get(state.file, "") if state.line else ""
            row = (state.address, 1, file, state.line)
            if state.end_sequence:
                row = (state.address, 0, "", 0)
            elif self._rows and self._rows[-1][:2] == row[:2]:
                self._rows.pop()  # several rows at one address: the last wins
            self._rows.append(row)
        return files

    def _read_inlined(self, dwarf: Any, unit: Any, files: dict[int, str]) -> None:
        ranges = Ranges(dwarf, unit)
        names: dict[int, str] = {}
        for die in unit.get_top_DIE().iter_children():
            self._walk(die, "", None, ranges, files, names)

    def _walk(
        self,
        die: Any,
        owner: str,
        outer: Inlined | None,
        ranges: "Ranges",
        files: dict[int, str],
        names: dict[int, str],
    ) -> None:
        """Note the stretches of a subprogram and of what was inlined into it."""
        tag = die.tag
        if tag == "DW_TAG_subprogram":
            owner, outer = _name(die, names), None
        elif tag == "DW_TAG_inlined_subroutine":
            attributes = die.attributes
            call = attributes.get("DW_AT_call_line")
            call_file = attributes.get("DW_AT_call_file")
            site = Site(
                outer.function if outer else owner,
                files.get(call_file.value, "") if call_file else "",
                call.value if call else 0,
            )
            inner = Inlined(_name(die, names), (site, *(outer.chain if outer else ())))
            for low, high in ranges.of(die):
                self._paint(low, high, inner)
            outer = inner
        elif tag not in ("DW_TAG_lexical_block", "DW_TAG_namespace", "DW_TAG_module"):
            return
        if die.has_children:
            for child in die.iter_children():
                self._walk(child, owner, outer, ranges, files, names)

    def _paint(self, low: int, high: int, inner: Inlined) -> None:
        """Lay a stretch over what lies there; children come after their parents."""
        stretches = self._stretches
        first = bisect_right(stretches, low - 1, key=lambda item: item[0])
        last = bisect_right(stretches, high, key=lambda item: item[0])
        before = stretches[last - 1][1] if last else None
        stretches[first:last] = [(low, inner), (high, before)]


class Ranges:
    """Address ranges of the entries of one unit."""

    def __init__(self, dwarf: Any, unit: Any) -> None:
        self.lists = dwarf.range_lists()
        self.unit = unit
        low = unit.get_top_DIE().attributes.get("DW_AT_low_pc")
        self.base = low.value if low else 0

    def of(self, die: Any) -> Iterable[tuple[int, int]]:
        from elftools.dwarf.descriptions import describe_form_class
        from elftools.dwarf.ranges import BaseAddressEntry

        attributes = die.attributes
        if "DW_AT_ranges" in attributes and self.lists is not None:
            at = attributes["DW_AT_ranges"].value
            base = self.base
            if self.unit["version"] >= 5:
                entries = self.lists.get_range_list_at_offset(at, cu=self.unit)
            else:
                entries = self.lists.get_range_list_at_offset(at)
            for entry in entries:
                if isinstance(entry, BaseAddressEntry):
                    base = entry.base_address
                    continue
                offset = 0 if getattr(entry, "is_absolute", False) else base
                if entry.end_offset > entry.begin_offset:
                    yield entry.begin_offset + offset, entry.end_offset + offset
        elif "DW_AT_low_pc" in attributes and "DW_AT_high_pc" in attributes:
            low, high = attributes["DW_AT_low_pc"].value, attributes["DW_AT_high_pc"]
            is_address = describe_form_class(high.form) == "address"
            end = high.value if is_address else low + high.value
            if end > low:
                yield low, end


def _name(die: Any, names: dict[int, str]) -> str:
    """Return a function's name, looked up through the entries it completes."""
    if die.offset not in names:
        names[die.offset] = text_of(lookup(die, "DW_AT_name"))
    return names[die.offset]


def _files(program: Any, unit: Any, folder: str) -> dict[int, str]:
    """Return the files of a line program by number, relative to ``folder`` inside it."""
    modern = program.header["version"] >= 5
    directories = [_text(entry) for entry in program.header["include_directory"]]
    built_in = unit.get_top_DIE().attributes.get("DW_AT_comp_dir")
    home = built_in.value.decode(errors="surrogateescape") if built_in else ""
    out = {}
    for index, entry in enumerate(program.header["file_entry"]):
        number = entry.dir_index
        if modern:
            directory = directories[number] if number < len(directories) else ""
        else:
            directory = directories[number - 1] if 0 < number <= len(directories) else ""
        name = _text(entry.name)
        place = name if name.startswith("/") else f"{directory}/{name}" if directory else name
        if not place.startswith("/") and home:
            place = f"{home}/{place}"
        out[index + (0 if modern else 1)] = normal_path("", place, folder)
    return out


def _text(value: Any) -> str:
    raw = value if isinstance(value, bytes) else getattr(value, "DW_LNCT_path", value)
    return raw.decode(errors="surrogateescape") if isinstance(raw, bytes) else str(raw)
