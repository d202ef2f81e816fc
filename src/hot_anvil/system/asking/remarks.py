"""Ask a compiler what it did, what it could not do and why: its optimisation records."""

import gzip
from pathlib import Path
from typing import Any

from hot_anvil.core.arch import has_objects
from hot_anvil.core.build.records import Unit
from hot_anvil.core.codec import read
from hot_anvil.core.remarks.reading import READERS
from hot_anvil.core.remarks.records import Kind, Remark, totals, without_repeats
from hot_anvil.core.remarks.table import Answered
from hot_anvil.core.toolchain.invocation import OBJECT, TEXT
from hot_anvil.core.toolchain.records import Records
from hot_anvil.system.asking.proof import changed_code, check_unchanged
from hot_anvil.system.build.compiling import run_compiler
from hot_anvil.system.build.jobs import Job, links_late
from hot_anvil.system.process.running import Outcome
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

_LARGEST = 256 << 20  # bytes of records that are read


def why_none(job: Job) -> str:
    """Return why a compiler has nothing to say about a source, "" where it has."""
    records = job.family.records
    if records is None or job.toolchain.major < records.since:
        return f"{job.toolchain.name} writes no records of what it optimises"
    if job.language == "assembly":
        return f"{job.source} is assembly: nothing is optimised"
    if links_late(job.flags):
        return "its code is made while linking, which writes no records"
    return ""


def ask_remarks(job: Job, unit: Unit, store: Store) -> Answered:
    """Return what the job's compiler says of a unit, asked once; the source must be unchanged."""
    name = job.build.name
    why = why_none(job)
    if why:
        return Answered(name, (), {}, "", why)
    found = store.derive(
        digest(f"remarks {stage_digest('remarks')}", unit.artefact),
        lambda work: _ask(job, unit, store, work),
    )
    if isinstance(found, str) or found is None:
        return Answered(name, (), {}, "", found or "its compiler wrote no records")
    counted, code, remarks = found
    return Answered(name, read(tuple[Remark, ...], remarks), counted, code, "")


def _ask(job: Job, unit: Unit, store: Store, work: Path) -> Any:
    records = job.family.records
    assert records is not None
    isa = job.toolchain.isa
    flags = [flag.replace("{file}", str(work / "records")) for flag in records.flags]
    make, output = (OBJECT, "code.o") if has_objects(isa) else (TEXT, "code.s")
    said = run_compiler(job, store, work, make, output, flags, _LARGEST)
    if said.failed:
        return None
    text = _records(records, said, work)
    found: list[Remark] = [_own_file(r, store.root) for r in READERS[records.form](text)]
    counted: dict[Kind, int] = totals(found)
    check_unchanged(job, unit, store)
    code = changed_code(unit, work / output, store, isa)
    return [counted, code, without_repeats(found)]


def _records(records: Records, said: Outcome, work: Path) -> str:
    if records.form == "rust":
        return said.stderr
    for file in work.glob("*.opt-record.json.gz"):
        with gzip.open(file) as packed:
            return packed.read(_LARGEST).decode(errors="replace")
    return (work / "records").read_text(errors="replace") if (work / "records").exists() else ""


def _own_file(remark: Remark, root: str) -> Remark:
    """Return a remark whose places go by the names that the bench has for its files."""
    start = root.rstrip("/") + "/"
    if not remark.file.startswith(start) and not any(c.file.startswith(start) for c in remark.why):
        return remark
    why = tuple(c._replace(file=c.file.removeprefix(start)) for c in remark.why)
    return remark._replace(file=remark.file.removeprefix(start), why=why)
