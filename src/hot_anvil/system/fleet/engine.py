"""The engine that joins machines: Dask's ``distributed``, through its public interface.

Only ``joining``, this module and ``handling`` know it. It is loaded when a fleet is named, never
before.
Each trap that measuring it showed has its answer here:

- A task runs on one of the workers that may do it and takes a resource, so nothing of ours runs
  beside a measurement. Where none of these is left, the engine would wait for ever: we do not.
- A task that has ended two workers is not tried on a third, or it would empty the fleet.
- Equal requests are not one result: each goes by a name that comes once.
- What was begun is watched from here too: a worker that is cut off and does not come back loses
  its task to another.
"""

import time
import uuid
import warnings
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.fleet.machines import COMPILE, Machine
from hot_anvil.core.results.packing import unpack
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.errors import MissingError
from hot_anvil.system.fleet.handling import handle
from hot_anvil.system.fleet.joining import connected, tell_by_value, why_unusable
from hot_anvil.system.fleet.requests import Failed, from_bytes, to_bytes
from hot_anvil.system.fleet.this_machine import our_version
from hot_anvil.system.process.scope import current_scope

CONNECT_SECONDS = 10.0
_LOOK = 0.02  # seconds between looks at what came back
_AHEAD = 2  # tasks for each worker at once, so that none waits for us
_LIST_SECONDS = 1.0  # between looks at which workers there are
_SILENCE = 45.0  # seconds beyond its own limit after which a task's worker counts as lost
_MOST_LOST = 2  # workers that a task may end or lose


class WorkerThere(NamedTuple):
    """A worker of the engine, and the machine it is on."""

    address: str
    name: str
    machine: Machine
    offers: Mapping[str, float]  # resource -> how much
    toolchains: tuple[Toolchain, ...]


class Task(NamedTuple):
    """A request for one of several workers."""

    request: Any
    workers: tuple[str, ...]  # addresses of those that may do it
    resource: str  # MEASURE or COMPILE
    seconds: float  # that it may take once its turn has come
    label: str  # for people


class Reply(NamedTuple):
    """What came of a task."""

    answer: Any  # Failed where it could not be done
    worker: str  # address, "" where none did it


class Fleet:
    """A connection to a scheduler, with the workers that can be used."""

    def __init__(self, address: str, seconds: float = CONNECT_SECONDS) -> None:
        self.address = address
        self.client = connected(address, seconds)
        self.topic = f"hot-anvil-{uuid.uuid4().hex}"
        self.begun: dict[str, list[tuple[float, str]]] = {}  # task -> when, and by which worker
        self.client.subscribe_topic(self.topic, self._note)
        self.unusable: tuple[tuple[str, str], ...] = ()  # worker, and why it is not used
        self.workers = self._look()

    def close(self) -> None:
        """Leave the fleet; what is still running there for us is ended."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            try:
                self.client.close(timeout=2)
            except Exception:  # the scheduler is gone: there is nothing to leave
                return

    def _note(self, event: tuple[float, Any]) -> None:
        told = event[1]
        if isinstance(told, dict) and "task" in told:
            self.begun.setdefault(told["task"], []).append((time.monotonic(), told["worker"]))

    def _look(self) -> dict[str, WorkerThere]:
        """Ask every worker what it is; note those that cannot be used."""
        known = self._listed()
        if not known:
            raise MissingError(
                f"{self.address}: the scheduler has no workers. Start one on each machine with "
                f"'dask worker {self.address} --nthreads 1 --resources \"measure=1 compile=1\"' "
                "(docs/fleet.md)."
            )
        told = self.client.run(tell_by_value(our_version()), on_error="return")
        out, unusable = {}, []
        for address, info in known.items():
            name, answer = str(info.get("name", address)), told.get(address)
            why = why_unusable(answer, info)
            if why:
                unusable.append((name, why))
                continue
            machine = unpack(answer["machine"])
            offers = dict(info.get("resources", {}))
            chains = unpack(answer["toolchains"])
            out[address] = WorkerThere(address, name, machine, offers, chains)
        self.unusable = tuple(unusable)
        if not out:
            every = "; ".join(f"{name}: {why}" for name, why in unusable)
            raise MissingError(f"{self.address}: no worker can be used. {every}.")
        return out

    def _listed(self) -> dict[str, Any]:
        """Return the workers there are; raises MissingError when the scheduler is gone."""
        try:
            found: dict[str, Any] = self.client.scheduler_info(n_workers=-1)["workers"]
            return found
        except Exception:
            raise MissingError(
                f"{self.address}: the scheduler is gone. What came back is kept; start it again, "
                "and run the command again."
            ) from None

    def offering(self, resource: str) -> tuple[str, ...]:
        """Return the addresses of the workers that offer a resource."""
        return tuple(w.address for w in self.workers.values() if w.offers.get(resource, 0) >= 1)

    def machine(self, address: str) -> Machine:
        """Return the machine that a worker is on."""
        return self.workers[address].machine

    def run(
        self, tasks: Sequence[Task], done: Callable[[int, Reply], None] = lambda number, reply: None
    ) -> list[Reply]:
        """Do tasks, each once as far as their answers count; return these in the same order.

        ``done`` is told each as it comes. Ends all of it when the scope ends, or on Ctrl-C.
        """
        rest = deque(enumerate(tasks))
        waiting: dict[int, _Waiting] = {}
        replies: dict[int, Reply] = {}
        alive, looked = set(self._listed()), time.monotonic()
        window = max(1, _AHEAD * len({worker for task in tasks for worker in task.workers}))
        try:
            while waiting or rest:
                # The engine hands tasks that take a resource to workers at once, by guess.
                while rest and len(waiting) < window:
                    number, task = rest.popleft()
                    waiting[number] = _Waiting(self, task)
                    waiting[number].submit(alive)
                if current_scope().is_ending:
                    raise KeyboardInterrupt
                if time.monotonic() - looked > _LIST_SECONDS:
                    alive, looked = self._alive(alive), time.monotonic()
                for number, one in list(waiting.items()):
                    reply = one.look(alive)
                    if reply is not None:
                        del waiting[number]
                        replies[number] = reply
                        done(number, reply)
                time.sleep(_LOOK)
        finally:
            for one in waiting.values():
                one.cancel()
        return [replies[number] for number in range(len(tasks))]

    def _alive(self, before: set[str]) -> set[str]:
        """Return the workers there are, those of before while the engine joins the fleet anew."""
        if self.client.status == "connecting":
            return before
        return set(self._listed())


class _Waiting:
    """One task between its first submission and its reply."""

    def __init__(self, fleet: Fleet, task: Task) -> None:
        self.fleet, self.task = fleet, task
        self.name = uuid.uuid4().hex
        self.lost: list[str] = []  # workers that ended or were lost with it
        self.future: Any = None
        self.reply: Reply | None = None

    def submit(self, alive: set[str]) -> None:
        """Hand it to the engine, for those that may do it and are there."""
        able = [w for w in self.task.workers if w in alive and w not in self.lost]
        if not able:
            self.reply = Reply(Failed(self._nobody()), "")
            return
        self.name = uuid.uuid4().hex  # what an earlier attempt still tells is of another name
        payload = our_version().encode() + b"\n" + to_bytes(self.task.request)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # that a payload is large: it has to be
            self.future = self.fleet.client.submit(
                handle, payload, self.task.seconds, self.fleet.topic, self.name,
                self.task.resource == COMPILE,
                key=f"hot-anvil-{self.name}", pure=False, workers=able, retries=0,
                allow_other_workers=False, resources={self.task.resource: 1},
            )  # fmt: skip

    def _nobody(self) -> str:
        if len(self.lost) >= _MOST_LOST:
            return f"it was tried on {len(self.lost)} workers, and each ended or was lost with it"
        if self.lost:
            return "the worker that worked on it ended or was lost, and no other may do it"
        return "no worker that may do it is left"

    def look(self, alive: set[str]) -> Reply | None:
        """Return the reply where there is one; hand it on where its worker was lost."""
        if self.reply is not None:
            return self.reply
        if self.fleet.client.status != "running":
            return None  # whether the scheduler comes back shows when workers are listed
        status = self.future.status
        if status == "finished":
            worker, data = self.future.result()
            return Reply(from_bytes(data), worker)
        if status in ("error", "cancelled", "lost"):
            return self._again(alive, self._why(status))
        now, begun = time.monotonic(), self.fleet.begun.get(self.name, [])
        gone = [worker for _, worker in begun if worker not in alive]
        if len(begun) > len(gone) and now - begun[-1][0] > self.task.seconds + _SILENCE:
            return self._again(alive, "")
        if len(gone) >= _MOST_LOST or not any(w in alive for w in self.task.workers):
            return self._again(alive, "")
        return None

    def _why(self, status: str) -> str:
        error = self.future.exception() if status == "error" else None
        if error is None or type(error).__name__ in ("KilledWorker", "FutureCancelledError"):
            return ""
        return f"{type(error).__name__}: {error}"

    def _again(self, alive: set[str], why: str) -> Reply | None:
        """Try it on another worker, or give up."""
        self.lost += [worker for _, worker in self.fleet.begun.get(self.name, [])]
        self.cancel()
        if why or len(self.lost) >= _MOST_LOST:
            return Reply(Failed(why or self._nobody()), "")
        self.submit(alive)
        return self.reply

    def cancel(self) -> None:
        """Tell the engine that nobody waits for it any more; what works on it notices."""
        if self.future is not None:
            try:
                self.future.cancel()
            except Exception:  # nobody is there to be told
                return
