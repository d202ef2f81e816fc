"""Worker processes: live programs of a build that call its entries on request."""

import os
import select
import subprocess
import tempfile
import time

from hot_anvil.core import protocol
from hot_anvil.core.errors import FaultError, RequestError
from hot_anvil.core.inputs import InputSet
from hot_anvil.system.process import end_group, signal_name

MEMORY_LIMIT = 2 << 30  # bytes of address space
_COMPLAINT_BYTES = 400


class WorkerEnded(Exception):  # noqa: N818 - an event, not an error of ours
    """The worker is gone: ``kind`` is "crashed" or "hung", ``why`` says how."""

    def __init__(self, kind: str, why: str) -> None:
        super().__init__(why)
        self.kind = kind
        self.why = why


class Worker:
    """One live process of a build's program."""

    def __init__(self, path: str, cpu: int = -1, memory: int = MEMORY_LIMIT) -> None:
        self._complaints = tempfile.TemporaryFile()  # noqa: SIM115 - lives as long as we do
        try:
            self._process = subprocess.Popen(
                [path, str(cpu), str(memory)],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=self._complaints,
                bufsize=0,
                start_new_session=True,
            )
        except OSError as error:
            raise RequestError(f"{path}: cannot be started ({error.strerror}).") from None
        assert self._process.stdin and self._process.stdout
        self._in = self._process.stdin.fileno()
        self._out = self._process.stdout.fileno()
        os.set_blocking(self._in, False)

    def prepare(self, slot: int, entry: int, inputs: InputSet, tight: bool = False) -> None:
        """Lay out an input set; ``tight`` puts the buffers' ends before a closed page."""
        self._ask(protocol.prepare(slot, entry, inputs, tight), 30.0)

    def call(self, slot: int, inputs: InputSet, seconds: float) -> protocol.Output:
        """Call the entry once and return all it left behind."""
        return protocol.read_output(self._ask(protocol.call(slot), seconds), inputs)

    def calibrate(self, slot: int, seconds: float, limit: float) -> tuple[int, float]:
        """Return (calls that fill ``seconds``, what the last batch took)."""
        return protocol.read_calibration(self._ask(protocol.calibrate(slot, seconds), limit))

    def visit(self, slot: int, calls: int, samples: int, limit: float) -> protocol.Visit:
        """Time ``samples`` batches of ``calls`` calls."""
        return protocol.read_visit(self._ask(protocol.visit(slot, calls, samples), limit))

    def probe(self) -> float:
        """Return the seconds that a fixed piece of work takes just now."""
        return protocol.read_probe(self._ask(protocol.request("Z"), 10.0))

    def close(self) -> None:
        """End the process; safe to call twice."""
        if self._process.poll() is None:
            end_group(self._process)
        self._process.wait()
        for stream in (self._process.stdin, self._process.stdout):
            if stream and not stream.closed:
                stream.close()
        self._complaints.close()

    def __enter__(self) -> "Worker":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _ask(self, message: bytes, seconds: float) -> bytes:
        deadline = time.monotonic() + seconds
        self._write(message, deadline, seconds)
        status, size = protocol.ANSWER_HEAD.unpack(self._read(5, deadline, seconds))
        if status:
            raise FaultError(f"the worker answered with status {status}; please report this.")
        return self._read(size, deadline, seconds)

    def _write(self, data: bytes, deadline: float, seconds: float) -> None:
        view = memoryview(data)
        while view:
            _, ready, _ = select.select([], [self._in], [], max(0.0, deadline - time.monotonic()))
            if not ready:
                raise self._hung(seconds)
            try:
                view = view[os.write(self._in, view) :]
            except BrokenPipeError:
                raise self._ended() from None

    def _read(self, size: int, deadline: float, seconds: float) -> bytes:
        parts = []
        while size:
            ready, _, _ = select.select([self._out], [], [], max(0.0, deadline - time.monotonic()))
            if not ready:
                raise self._hung(seconds)
            part = os.read(self._out, min(size, 1 << 20))
            if not part:
                raise self._ended()
            parts.append(part)
            size -= len(part)
        return b"".join(parts)

    def _hung(self, seconds: float) -> WorkerEnded:
        end_group(self._process)
        return WorkerEnded("hung", f"no answer within {seconds:g} s")

    def _ended(self) -> WorkerEnded:
        code = self._process.wait(10)
        self._complaints.seek(0)
        said = self._complaints.read(_COMPLAINT_BYTES).decode(errors="replace").strip()
        how = f"killed by {signal_name(-code)}" if code < 0 else f"ended with exit code {code}"
        if code == 122:
            how = "ran out of memory for its buffers"
        first = said.split("\n")[0] if said else ""
        return WorkerEnded("crashed", how + (f": {first}" if first else ""))
