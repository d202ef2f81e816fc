"""Worker processes: live programs of a build that call its entries on request.

Each has a session, a folder and an environment of its own, and no descriptor
but its talk, its standard error and the memory of its crash report. It is
started by the launcher of its scope, which holds it.
"""

import fcntl
import os
import select
import shutil
import signal
import time
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from itertools import count, islice
from pathlib import Path
from types import MappingProxyType
from typing import Literal

from hot_anvil.core.calling import protocol, timing
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.verify.crash_report import REPORT_BYTES, Report, read_report
from hot_anvil.errors import FaultError, MissingError, RequestError, cannot
from hot_anvil.system.execute.emulation import PATIENCE, emulator_for, starting
from hot_anvil.system.process.confinement import Told
from hot_anvil.system.process.disk_watch import LOOK_SECONDS, OVERFULL, DiskWatch
from hot_anvil.system.process.running import signal_name
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.process.trouble import is_full

MEMORY_LIMIT = 2 << 30  # bytes of address space
_COMPLAINT_BYTES = 16 << 10
_REPORT_FD = 3  # where worker.c looks for the crash report's memory
_TELL_FD = 4  # where the launcher tells
_PIPE_BYTES = 1 << 20
_PAUSE = 1.0  # seconds: who wakes up later than that was not run, and nor was what it waits for
_MOMENT = 0.5  # seconds for a hung process to say where it is
_AHEAD = 4 << 20  # bytes of requests sent before their answers are read
_OUT_OF_MEMORY = 122  # exit code of worker.c
_NOT_SET_UP = 124  # exit code of worker.c before any code under study has run
_KEPT_VARIABLES = ("PATH", "LD_LIBRARY_PATH", "HOME", "OMP_NUM_THREADS")
# Sanitizers stop at the first fault, leave addresses alone and let the crash reporter see signals.
_SANITIZERS = (
    "halt_on_error=1:symbolize=0:handle_segv=0:handle_sigbus=0:handle_abort=0:"
    "handle_sigfpe=0:handle_sigill=0:exitcode=99:allocator_may_return_null=1:"
    f"max_allocation_size_mb={MEMORY_LIMIT >> 20}:hard_rss_limit_mb={MEMORY_LIMIT >> 20}"
)
NO_VARIABLES: Mapping[str, str] = MappingProxyType({})
_PIECES = 64  # of a request sent at once
_numbers = count()


Ending = Literal["crashed", "hung"]


class WorkerEnded(Exception):  # noqa: N818 - an event, not an error of ours
    """The worker is gone: ``kind`` is "crashed" or "hung", ``why`` says how."""

    def __init__(self, kind: Ending, why: str, report: Report | None, complaints: str) -> None:
        super().__init__(why)
        self.kind = kind
        self.why = why
        self.report = report
        self.complaints = complaints  # what it wrote on its standard error


def own_environment(folder: str) -> dict[str, str]:
    """Return the environment of code under study: the same whoever starts it."""
    kept = {name: os.environ[name] for name in _KEPT_VARIABLES if name in os.environ}
    return {
        **kept,
        "LC_ALL": "C",
        "TZ": "UTC",
        "TMPDIR": folder,
        "ASAN_OPTIONS": f"{_SANITIZERS}:detect_leaks=0:detect_stack_use_after_return=1",
        "UBSAN_OPTIONS": f"{_SANITIZERS}:print_stacktrace=1",
        "MSAN_OPTIONS": _SANITIZERS,
        "TSAN_OPTIONS": f"{_SANITIZERS}:report_signal_unsafe=0",
    }


def new_folder(base: str) -> str:
    """Make and return a new, empty folder for a process; swept up when we are killed."""
    folder = os.path.join(base, "work", f"{os.getpid()}-run{next(_numbers)}")  # noqa: PTH118
    try:
        os.makedirs(folder)  # noqa: PTH103
    except OSError as error:
        raise cannot(f"{folder}: cannot be made", error) from None
    return folder


def remove_folder(folder: str) -> None:
    """Remove what a process had for a folder."""
    try:
        os.rmdir(folder)  # noqa: PTH106 - mostly it is empty, and this is all
    except OSError:
        shutil.rmtree(folder, ignore_errors=True)


class Worker:
    """One live process of a build's program."""

    def __init__(
        self,
        path: str,
        cpu: int = -1,
        memory: int = MEMORY_LIMIT,
        under: Sequence[str] = (),
        errors: int = -1,
        variables: Mapping[str, str] = NO_VARIABLES,
    ) -> None:
        # ``errors``: a descriptor for its standard error, which is then not kept as complaints;
        # ``variables``: more of its environment, "{folder}" stands for its own.
        # PATH is .hot-anvil/artefacts/NAME/worker.
        self.folder = new_folder(str(Path(path).parents[2]))
        self._complaints = os.memfd_create("complaints")
        self._memory = os.memfd_create("crash report")
        os.truncate(self._memory, REPORT_BYTES)
        asked, self._in = os.pipe()
        self._out, answers = os.pipe()
        for descriptor in (self._in, self._out):
            with suppress(OSError):
                fcntl.fcntl(descriptor, fcntl.F_SETPIPE_SZ, _PIPE_BYTES)
        os.set_blocking(self._in, False)
        self._code: int | None = None
        self._told = Told()
        said = self._complaints if errors < 0 else errors
        ours = [(asked, 0), (answers, 1), (said, 2), (self._memory, _REPORT_FD),
                (self._told.descriptor, _TELL_FD)]  # fmt: skip
        self._scope = current_scope()
        under = under or emulator_for(path)
        self._patience = PATIENCE if under else 1
        argv = starting(under, path, (str(cpu), str(memory), self.folder), self.folder)
        self._held = self._scope.confinement()
        argv = self._held.command(_TELL_FD, self.folder, argv)
        try:
            self._pid = os.posix_spawn(
                argv[0],
                argv,
                {**own_environment(self.folder), **self._own(variables)},
                file_actions=[(os.POSIX_SPAWN_DUP2, mine, its) for mine, its in ours],
                setsid=True,
                setsigdef=[signal.SIGPIPE, signal.SIGXFSZ, signal.SIGINT],
            )
        except OSError as error:
            raise RequestError(f"{path}: cannot be started ({error.strerror}).") from None
        finally:
            os.close(asked)
            os.close(answers)
        self._scope.live(self._pid, self._held.end)

    def _own(self, variables: Mapping[str, str]) -> dict[str, str]:
        return {name: text.replace("{folder}", self.folder) for name, text in variables.items()}

    def finish(self, seconds: float) -> None:
        """Let the process end by itself; what it leaves in its folder is there until ``close``."""
        os.close(self._in)
        self._in = os.open(os.devnull, os.O_WRONLY)  # closed again with the others
        until = time.monotonic() + seconds
        while not self._wait(os.WNOHANG) and time.monotonic() < until:
            time.sleep(0.005)

    def load(self, library: int, path: str) -> None:
        """Load a build's library under a number."""
        self.ask(timing.load(library, path), 30.0)

    def prepare(self, slot: int, library: int, entry: int, inputs: InputSet) -> None:
        """Lay out an input set, to be timed."""
        self.ask(timing.prepare(slot, library, entry, inputs), 30.0)

    def join(self, slot: int, library: int, entry: int, owner: int) -> None:
        """Let an entry find its values where another slot has them."""
        self.ask(timing.join(slot, library, entry, owner), 30.0)

    def probe(self) -> float:
        """Return the seconds that a fixed piece of work takes just now."""
        return timing.read_probe(self.ask([protocol.request("Z")], 10.0))

    def first(self, slot: int, limit: float) -> timing.First:
        """Time one call."""
        return timing.read_first(self.ask(timing.first(slot), limit))

    def state(self, slot: int, limit: float) -> bool:
        """Tell whether calls read what earlier ones wrote."""
        return bool(self.ask(timing.state(slot), limit)[0])

    def calibrate(self, slot: int, seconds: float, alone: bool, limit: float) -> timing.Calibration:
        """Find how many calls fill ``seconds``."""
        answer = self.ask(timing.calibrate(slot, seconds, alone), limit)
        return timing.read_calibration(answer)

    def sample(self, slot: int, calls: int, seconds: float, between: float) -> timing.Samples:
        """Look where the processor is while an entry is called."""
        answer = self.ask(timing.sample(slot, calls, seconds, between), 60.0 + 20 * seconds)
        return timing.read_samples(answer)

    def maps(self) -> str:
        """Return which files lie where in the process's memory, as the kernel tells it."""
        return Path(f"/proc/{self._told.pid or self._pid}/maps").read_text()

    def launch(self, wanted: timing.Launch, limit: float) -> timing.Launched:
        """Run a whole program; only the worker that loads libraries can."""
        return timing.read_launched(self.ask(timing.launch(wanted), limit))

    def batches(self, wanted: Sequence[timing.Asked], limit: float) -> list[timing.Batch]:
        """Make batches, one after the other."""
        return timing.read_batches(self.ask(timing.batches(wanted), limit), wanted)

    def answers(self, requests: Sequence[protocol.Request], seconds: float) -> Iterator[bytes]:
        """Give the answer to each request; ``seconds`` bounds each of them, emulated ones by more.

        The answer is empty where a chip has no room for the values. Requests are sent ahead, so
        that the process never waits for us.
        """
        waiting: deque[memoryview] = deque()
        disk: DiskWatch | None = None  # of calls that take long
        sent = 0
        ahead = 0
        seconds *= self._patience
        for number in range(len(requests)):
            deadline = time.monotonic() + seconds
            need, got = 5, bytearray()
            head = True
            while need:
                while sent < len(requests) and not waiting and (sent <= number or ahead < _AHEAD):
                    waiting.extend(memoryview(part) for part in requests[sent] if part)
                    ahead += sum(map(len, requests[sent]))
                    sent += 1
                    self._send(waiting)
                now = time.monotonic()
                wait = min(max(0.0, deadline - now), LOOK_SECONDS)
                readable, writable, _ = select.select(
                    [self._out], [self._in] if waiting else [], [], wait
                )
                late = time.monotonic() - now - wait
                if late > _PAUSE:
                    deadline += late
                if not readable and not writable:
                    if time.monotonic() >= deadline:
                        raise self._hung(seconds)
                    disk = disk or DiskWatch(self.folder)
                    if disk.overfull():
                        raise self._stopped("crashed", OVERFULL)
                if writable:
                    self._send(waiting)
                if readable:
                    part = os.read(self._out, need)
                    if not part:
                        raise self._ended()
                    got += part
                    need -= len(part)
                    if not need and head:
                        head, need = False, self._size(got)
                        got = bytearray()
            ahead -= sum(map(len, requests[number]))
            yield bytes(got)

    def complaints(self) -> str:
        """Return what the process wrote on its standard error so far."""
        data = os.pread(self._complaints, _COMPLAINT_BYTES, 0)
        return data.decode(errors="replace").strip()

    def stop(self) -> None:
        """End the process from another thread: who waits for its answer learns that it ended."""
        if self._code is None and self._pid:
            self._held.end(self._pid)

    def close(self) -> None:
        """End the process; safe to call twice."""
        if self._pid:
            self._kill()
            self._wait()
            self._scope.ended(self._pid)
            for descriptor in (self._in, self._out, self._complaints, self._memory):
                os.close(descriptor)
            self._told.close()
            self._pid = 0
            remove_folder(self.folder)

    def __enter__(self) -> "Worker":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def ask(self, message: protocol.Request, seconds: float) -> bytes:
        """Return the answer to one request."""
        (answer,) = self.answers([message], seconds)
        return answer

    @staticmethod
    def _size(head: bytes | bytearray) -> int:
        status, size = protocol.ANSWER_HEAD.unpack(head)
        if status == protocol.NO_ROOM:
            return 0
        if status:
            raise FaultError(f"the worker answered with status {status}; please report this.")
        return int(size)

    def _send(self, waiting: "deque[memoryview]") -> None:
        """Send what fits just now, and take it off what is waiting."""
        try:
            sent = os.writev(self._in, list(islice(waiting, _PIECES)))
        except BlockingIOError:
            return
        except BrokenPipeError:
            raise self._ended() from None
        while waiting and sent >= len(waiting[0]):
            sent -= len(waiting.popleft())
        if sent:
            waiting[0] = waiting[0][sent:]

    def _hung(self, seconds: float) -> WorkerEnded:
        # The crash report says where it is.
        self._told.signal(signal.SIGXCPU, self._pid)
        until = time.monotonic() + _MOMENT
        while not self._wait(os.WNOHANG) and time.monotonic() < until:
            time.sleep(0.005)
        return self._stopped("hung", f"no answer within {seconds:g} s")

    def _stopped(self, kind: Ending, why: str) -> WorkerEnded:
        self._kill()
        self._wait()
        return WorkerEnded(kind, why, self._report(), self.complaints())

    def _ended(self) -> WorkerEnded:
        self._wait()
        code = self._code or 0
        said = self.complaints()
        how = f"killed by {signal_name(-code)}" if code < 0 else f"ended with exit code {code}"
        if code == -signal.SIGKILL and is_full(self.folder):
            raise MissingError(
                f"{self.folder}: the disk is full, and the process that calls the code was killed "
                "for it. Free some space and run the command again."
            )
        self._told.raise_refusal()
        if code == _NOT_SET_UP and self._report() is None:
            raise MissingError(
                "the process that calls the code could not be set up: too few descriptors, or too "
                "little memory, are allowed here. This is the machine's trouble, not the code's."
            )
        if code == _OUT_OF_MEMORY:
            how = "ran out of memory for its buffers"
        return WorkerEnded("crashed", how, self._report(), said)

    def _report(self) -> Report | None:
        return read_report(os.pread(self._memory, REPORT_BYTES, 0))

    def _kill(self) -> None:
        if self._code is None:
            self._held.end(self._pid)

    def _wait(self, options: int = 0) -> bool:
        """Wait for the process; tell whether it has ended."""
        if self._code is None:
            pid, status = os.waitpid(self._pid, options)
            if pid:
                self._code = os.waitstatus_to_exitcode(status)
                self._held.end_rest(pid)
        return self._code is not None
