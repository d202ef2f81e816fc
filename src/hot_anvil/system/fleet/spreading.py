"""Compile over a fleet: each unit once, on a worker with the very same compiler, else here."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from hot_anvil.core.build.records import REFUSED, Unit, refused_unit
from hot_anvil.core.fleet.machines import COMPILE, who_has
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.compiling import shadows
from hot_anvil.system.build.grid import CompileHere
from hot_anvil.system.build.jobs import Job, links_late
from hot_anvil.system.fleet.engine import Fleet, Reply, Task
from hot_anvil.system.fleet.own_files import own_files
from hot_anvil.system.fleet.requests import Compile, Failed, Given, JobAsked, Made, unpack_folder
from hot_anvil.system.fleet.this_machine import content_of
from hot_anvil.system.process.progress import Progress
from hot_anvil.system.process.scope import current_scope
from hot_anvil.system.store.store import Store

_MOST_JOBS = 24  # in one batch: what is lost with a worker


class _Batch(NamedTuple):
    jobs: tuple[Job, ...]
    task: Task


class Spread:
    """Compiles a grid's missing units on the workers of a fleet."""

    def __init__(self, fleet: Fleet) -> None:
        self.fleet = fleet
        self.here = 0  # units that were compiled here after all
        self.there = 0
        self.whys: dict[str, int] = {}  # why not there -> how many units
        self._contents: dict[str, str] = {}

    def __call__(
        self, jobs: Sequence[Job], store: Store, progress: Progress, here: CompileHere
    ) -> list[Unit]:
        """Return the unit of each job; ``here`` compiles what no worker can."""
        done: dict[str, Unit] = {}
        batches = self._batches(jobs, store)
        total = len(jobs)

        def note(number: int, reply: Reply) -> None:
            batch = batches[number]
            if isinstance(reply.answer, Failed):
                self._why(reply.answer.why, len(batch.jobs))
                return
            store.forget_digests()
            for job, made in zip(batch.jobs, reply.answer, strict=True):
                unit = self._kept(job, made, store)
                if unit:
                    done[job.key] = unit
            progress("compiling there", len(done), total)

        if batches:
            progress("compiling there", 0, total)
            self.fleet.run([batch.task for batch in batches], note)
        self.there += len(done)
        rest = [job for job in jobs if job.key not in done]
        own = [job for job in rest if not job.toolchain.machines]
        for job in rest:
            if job.toolchain.machines:
                why = f"no machine of the fleet that has {job.toolchain.name} compiled it"
                done[job.key] = refused_unit(job.source, why)
        self.here += len(own)
        if own:
            made_here = here(own, store, progress)
            done |= {job.key: unit for job, unit in zip(own, made_here, strict=True)}
        return [done[job.key] for job in jobs]

    def _batches(self, jobs: Sequence[Job], store: Store) -> list[_Batch]:
        able = self.fleet.offering(COMPILE)
        if not able:
            self._why("no worker offers 'compile'", len(jobs))
            return []
        groups: dict[tuple[str, ...], list[JobAsked]] = {}
        machines = {address: self.fleet.machine(address) for address in able}
        for job in jobs:
            content = self._content(job.toolchain)
            workers = who_has(content, machines)
            if not workers:
                self._why(f"no worker has this very {job.toolchain.name}", 1)
            elif links_late(job.flags):  # its debug info keeps the folder it was compiled in
                self._why("code that is made while linking is compiled where it is linked", 1)
            elif any("native" in flag for flag in job.flags):
                self._why("what is compiled for this processor is compiled on it", 1)
            else:
                groups.setdefault(workers, []).append(JobAsked(job, content))
        limits = current_scope().limits
        out = []
        for workers, asked in groups.items():
            for own in _parted(asked, len(workers)):
                plain = tuple(one.job for one in own)
                files = own_files(plain, store.root)
                given = Given(store.root, files, {}, "", limits._replace(at_once=1))
                seconds = limits.seconds * 3 * len(own) + 60
                label = f"compiling {len(own)} units"
                task = Task(Compile(given, own), workers, COMPILE, seconds, label)
                out.append(_Batch(plain, task))
        return out

    def _content(self, chain: Toolchain) -> str:
        if chain.machines:
            return chain.machines[0].content
        if chain.name not in self._contents:
            self._contents[chain.name] = content_of(chain) if not chain.flags else ""
        return self._contents[chain.name]

    def _kept(self, job: Job, made: Made | None, store: Store) -> Unit | None:
        """Put what came back into the store; None where it is not what would be made here.

        Its name is made of the command and of what was read, so a header that differs there, or a
        file that changed here meanwhile, makes another.
        """
        if made is None:
            self._why(f"{job.toolchain.name} there is not the same any more", 1)
            return None
        unit = made.unit
        if not unit.artefact:
            self._why(f"{job.toolchain.name} refused it for once: {unit.why}", 1)
            return None
        if unit.status == REFUSED and not job.toolchain.machines:
            self._why("what is refused there is compiled here, to be sure", 1)  # a file may lack
            return None
        if job.toolchain.machines:  # its headers are on that machine only
            store.lay(unit.artefact, lambda work: unpack_folder(made.artefact, work))
            return unit
        differs = store.name_for(job.key, made.read) != unit.artefact
        if differs or set(made.absent) - shadows(job, made.read, store.root):
            self._why("headers there differ from those here", 1)
            return None
        store.lay(unit.artefact, lambda work: unpack_folder(made.artefact, work))
        store.remember(job.key, made.read, made.absent, unit.artefact)
        return unit

    def _why(self, why: str, units: int) -> None:
        self.whys[why] = self.whys.get(why, 0) + units


def _parted(asked: Sequence[JobAsked], workers: int) -> Iterator[tuple[JobAsked, ...]]:
    """Give batches that grow smaller, so that workers end at about the same time.

    Each is half of a worker's share of what is left (guided self-scheduling: C. Polychronopoulos
    and D. Kuck, IEEE Transactions on Computers C-36, 1987).
    """
    first = 0
    while first < len(asked):
        size = -(-(len(asked) - first) // (2 * workers))
        size = min(_MOST_JOBS, size)
        yield tuple(asked[first : first + size])
        first += size
