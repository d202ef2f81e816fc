"""Whole programs: linked with the crash reporter beside them, and run in folders of their own."""

import os
import shutil
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from hot_anvil.core.build.records import Built
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.core.verify.crash_report import REPORT_BYTES, read_report
from hot_anvil.core.verify.program_runs import Ran, RunOutput
from hot_anvil.core.verify.verdicts import CRASHED, HUNG
from hot_anvil.errors import RequestError
from hot_anvil.system.build.link_command import link_parts
from hot_anvil.system.build.linking import Program
from hot_anvil.system.build.worker_objects import first_complaint, worker_objects
from hot_anvil.system.execute.calls import explain, memory_limit
from hot_anvil.system.execute.emulation import PATIENCE, emulator_for
from hot_anvil.system.execute.workers import WorkerEnded, new_folder, own_environment, remove_folder
from hot_anvil.system.process.confinement import Confinement, Told
from hot_anvil.system.process.disk_watch import LOOK_SECONDS, OVERFULL, DiskWatch
from hot_anvil.system.process.running import run, signal_name
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.process.trouble import raise_own_trouble
from hot_anvil.system.store.artefact import Artefact
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.stages import stage_digest
from hot_anvil.system.store.store import Store

FILE_LIMIT = 64 << 20  # bytes of a file a program may write
_COMPLAINTS = 16 << 10


def link_whole_program(built: Built, chain: Toolchain, host: Toolchain, store: Store) -> Program:
    """Link a build's objects to the program they are, with a crash reporter and a sampler."""
    fixed = worker_objects(host, store)
    beside = [str(fixed.part(name)) for name in ("crash", "sampler")]
    command, libraries = link_parts(built, chain, host, store)
    units = [unit.artefact for unit in built.units]
    identity = [driver.identity for driver in (*chain.drivers.values(), host.drivers["c"])]
    name = digest(
        f"whole program {stage_digest('worker')}",
        *identity,
        fixed.folder.name,
        *units,
        *command,
        *libraries,
    )  # fmt: skip
    target = store.artefact(name)
    if not store.holds(name):
        with store.workplace() as work:
            objects = [str(store.artefact(unit).object) for unit in units]
            argv = [*command, *objects, *beside, "-o", str(Artefact(work).program), *libraries]
            said = run(argv, store.root)
            raise_own_trouble(said, f"linking {built.build.name}")
            if said.failed:
                return Program("", f"cannot be linked: {first_complaint(said.stderr)}", "")
            store.keep(work, name)
    return Program(str(target.program), "", name)


def run_program(
    path: str,
    arguments: Sequence[str],
    stdin: bytes,
    needs: Mapping[str, Path],
    writes: Sequence[str],
    seconds: float,
    root: str,
    samples: int = -1,
) -> Ran:
    """Run a program once in a fresh folder that holds the files it needs.

    ``samples`` is a descriptor of memory for samples of where it is: native/sampler.c.
    """
    base = str(Path(path).parents[2])
    folder = new_folder(base)
    report = os.memfd_create("report")
    try:
        os.truncate(report, REPORT_BYTES)
        own = Path(folder, "own")
        own.mkdir()
        for name, source in needs.items():
            place = own / name
            place.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, place)
        return _run(path, arguments, stdin, own, (report, samples), writes, seconds, root)
    except OSError as error:
        raise RequestError(f"{path}: cannot be run ({error.strerror}).") from None
    finally:
        os.close(report)
        if not current_scope().confinement().ends_all:
            _end_strays(folder)
        remove_folder(folder)


def _end_strays(folder: str) -> None:
    """End processes that a program left behind in sessions of their own.

    They go by the folder for temporary files that each run has for itself.
    """
    wanted = f"TMPDIR={folder}/".encode()
    for entry in os.scandir("/proc"):
        if entry.name.isdecimal():
            with suppress(OSError):
                if wanted in Path(entry.path, "environ").read_bytes():
                    os.kill(int(entry.name), signal.SIGKILL)


def _run(
    path: str,
    arguments: Sequence[str],
    stdin: bytes,
    folder: Path,
    descriptors: tuple[int, int],
    writes: Sequence[str],
    seconds: float,
    root: str,
) -> Ran:
    memory, samples = descriptors
    more = {"HOT_ANVIL_REPORT": str(memory)}
    more |= {"HOT_ANVIL_SAMPLER": str(samples)} if samples >= 0 else {}
    # Files, not pipes: nothing to read while it runs, and the limit of file size bounds them.
    out, err, given = (folder.parent / name for name in ("out", "err", "in"))
    given.write_bytes(stdin)
    with out.open("wb") as told, err.open("wb") as said, given.open("rb") as asked:
        scope = current_scope()
        launched = Told()
        under = emulator_for(path)  # which takes more memory than the program does
        most = 0 if under else memory_limit(path)
        held = scope.confinement()
        argv = held.command(
            launched.descriptor, str(folder), [*under, path, *arguments], most, FILE_LIMIT
        )
        process = subprocess.Popen(
            argv, cwd=folder, stdin=asked, stdout=told, stderr=said,
            env={**own_environment(str(folder)), **more}, start_new_session=True,
            pass_fds=[fd for fd in (*descriptors, launched.descriptor) if fd >= 0],
        )  # fmt: skip
        scope.live(process.pid, held.end)
        try:
            seconds *= PATIENCE if under else 1
            stopped = _wait(process, held, launched, folder, seconds)
            launched.raise_refusal()
        finally:
            scope.ended(process.pid)
            launched.close()
    complaints = err.read_bytes()[:_COMPLAINTS].decode(errors="replace").strip()
    code = process.returncode
    if stopped or code < 0:
        report = read_report(os.pread(memory, REPORT_BYTES, 0))
        hung = stopped == HUNG
        how = f"did not end within {seconds:g} s" if hung else stopped or _killed(-code)
        end = WorkerEnded("hung" if hung else "crashed", how, report, complaints)
        why, place = explain(path, end, root, None, None)
        return Ran(None, HUNG if hung else CRASHED, why, place, complaints)
    files = tuple((name, _read(folder / name)) for name in writes)
    return Ran(RunOutput(code, _read(out) or b"", files), "", "", complaints=complaints)


def _killed(number: int) -> str:
    if number == signal.SIGXFSZ:
        return f"wrote a file of more than {FILE_LIMIT >> 20} MiB"
    return f"killed by {signal_name(number)}"


def _wait(
    process: "subprocess.Popen[bytes]",
    held: Confinement,
    launched: Told,
    folder: Path,
    seconds: float,
) -> str:
    """Wait for a program; end it, and tell why, when it takes too long or fills the disk."""
    until = time.monotonic() + seconds
    disk = DiskWatch(folder)
    try:
        while True:
            left = until - time.monotonic()
            with suppress(subprocess.TimeoutExpired):
                process.wait(max(min(left, LOOK_SECONDS), 0))
                return ""
            if disk.overfull():
                return OVERFULL
            if left > LOOK_SECONDS:
                continue
            launched.signal(signal.SIGXCPU, process.pid)  # the report says where it is
            with suppress(subprocess.TimeoutExpired):
                process.wait(0.5)
            return HUNG
    finally:
        if process.poll() is None:
            held.end(process.pid)
            process.wait()
        held.end_rest(process.pid)


def _read(file: Path) -> bytes | None:
    try:
        with file.open("rb") as stream:
            return stream.read(FILE_LIMIT)
    except OSError:
        return None
