"""A large grid on paper: where the hours go on many machines, from costs measured on this one.

    python benchmarks/fleet_plan.py [--snippets 1000] [--builds 40] [--classes 5] [--machines 4]

First the demo is picked on a small fleet on this machine, and what each step takes is noted: a unit
compiled there and taken back here, an image linked, a check here and there, a block and what is
around it. Then three ways to do the large job are simulated, event by event, with these costs:

as it is     compiled there, linked and checked here, then checked and measured there
link there   the same, were images linked by the machines that measure
check there  the same, were the check with sanitizers made by machines too

A simulation tells what waits for what; it is no measurement of 20 machines.
"""

import argparse
import heapq
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from hot_anvil import fleets
from hot_anvil.core.measure.options import Options
from hot_anvil.system.fleet import engine, spreading
from hot_anvil.system.fleet.requests import Compile, to_bytes
from hot_anvil.system.fleet.runs import Check, Measure
from hot_anvil.usecases import measurement, on_fleet

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from made_fleet import MadeFleet  # the tests' own

DEMO = Path(__file__).parent.parent / "src" / "hot_anvil" / "data" / "demo"
SECONDS = 1.0  # of measuring for a candidate and size, as ``pick`` does
CORES_HERE = 8  # of the machine that asks
BATCH = 12  # units of a task, on average


class Costs(NamedTuple):
    """What a step takes, in seconds, and bytes."""

    compile_there: float  # a unit, on one core of a worker
    take_back: float  # a unit, here, one after the other
    unit_bytes: float
    link: float  # all images of a candidate at all placements, on one core here
    check_here: float  # a candidate, on one core
    check_there: float  # a candidate
    around_block: float  # of a block, beside the seconds it measures
    block_bytes: float  # for a candidate
    distinct: float  # share of the candidates that is correct and code of its own


class Noted:
    """How often something was done, and what it took together."""

    def __init__(self) -> None:
        self.rows: dict[str, list[float]] = {}

    def add(self, name: str, value: float) -> None:
        self.rows.setdefault(name, []).append(value)

    def total(self, name: str) -> float:
        return sum(self.rows.get(name, ()))

    @contextmanager
    def timed(self, owner: Any, name: str, own: str) -> Iterator[None]:
        """Note what calls of a function take while this lasts."""
        before: Callable[..., Any] = getattr(owner, name)

        def noting(*given: Any, **named: Any) -> Any:
            started = time.perf_counter()
            try:
                return before(*given, **named)
            finally:
                self.add(own, time.perf_counter() - started)

        setattr(owner, name, noting)
        try:
            yield
        finally:
            setattr(owner, name, before)


def measured_costs() -> Costs:
    """Pick the demo on a fleet of two workers here; return what its steps take."""
    noted = Noted()
    run = engine.Fleet.run

    def noting(self: engine.Fleet, tasks: Any, done: Any = lambda number, reply: None) -> Any:
        started = time.perf_counter()
        replies = run(self, tasks, done)
        took = time.perf_counter() - started
        request = tasks[0].request
        kind = type(request).__name__
        noted.add(kind, took)
        noted.add(f"{kind} bytes", sum(len(to_bytes(task.request)) for task in tasks))
        if isinstance(request, Compile):
            noted.add("units", sum(len(task.request.jobs) for task in tasks))
        if isinstance(request, Check):
            noted.add("checked", len(request.programs) * len(request.signatures))
        if isinstance(request, Measure):
            noted.add("timed", len(request.checked.timed))
            points = max(len(replies[0].answer.measurements), 1)
            columns = len(replies[0].answer.measurements[0].candidates)
            noted.add("distinct", columns)
            noted.add("budget", request.options.seconds * points * columns)
        return replies

    engine.Fleet.run = noting  # type: ignore[method-assign]
    with tempfile.TemporaryDirectory() as name, noted.timed(spreading.Spread, "_kept", "kept"):
        bench = Path(name) / "bench"
        shutil.copytree(DEMO, bench)
        fleet = MadeFleet(Path(name), networks=False)
        try:
            fleet.worker("quay1")
            fleet.worker("quay2")
            fleet.wait(2)
            with fleets.join(fleet.address) as joined:
                anvil = joined.open_bench(bench)
                started = time.perf_counter()
                anvil.compile()
                noted.add("grid", time.perf_counter() - started)
                checks = noted.timed(on_fleet, "differing_verdicts", "compared")
                with noted.timed(measurement, "link_all", "linked"), checks:
                    started = time.perf_counter()
                    found = anvil.check()
                    noted.add("check here", time.perf_counter() - started)
                    joined.pick(anvil, options=Options(seconds=0.2))
        finally:
            fleet.close()
            engine.Fleet.run = run  # type: ignore[method-assign]
    candidates = sum(len(checked.verdicts) for checked in found)
    blocks = len(noted.rows["Measure"])
    return Costs(
        2 * noted.rows["Compile"][0] / noted.rows["units"][0],
        noted.total("kept") / len(noted.rows["kept"]),
        noted.total("Compile bytes") / noted.total("units"),
        2 * noted.total("linked") / noted.total("timed"),
        2 * noted.total("check here") / candidates,
        noted.total("Check") / noted.total("checked"),
        # Both workers are on this machine, so their blocks took turns.
        max(noted.total("Measure") / 2 - noted.total("budget"), 0.0) / blocks,
        noted.total("Measure bytes") / 2 / noted.total("timed"),
        noted.total("distinct") / candidates,
    )


class Server:
    """So many alike things that work takes turns on, first come first served."""

    def __init__(self, name: str, count: int) -> None:
        self.name, self.count = name, count
        self.free = [0.0] * count
        self.busy = 0.0

    def do(self, ready: float, seconds: float) -> float:
        """Return when work that is ready at a time is done."""
        begins = max(ready, heapq.heappop(self.free))
        heapq.heappush(self.free, begins + seconds)
        self.busy += seconds
        return begins + seconds


class Shape(NamedTuple):
    """How large the job is, and who does it."""

    snippets: int
    builds: int
    classes: int
    machines: int  # of a class


def simulate(costs: Costs, shape: Shape, way: str) -> tuple[float, list[Server], dict[str, float]]:
    """Return the seconds until all is done, who was busy how long, and when each phase ended."""
    here, client = Server("this machine's cores", CORES_HERE), Server("taking back here", 1)
    compilers = Server("compiling workers", shape.classes * shape.machines)
    groups = [Server(f"class {k + 1}", shape.machines) for k in range(shape.classes)]
    ends: dict[str, float] = {}
    compiled = 0.0
    for _ in range(shape.snippets * shape.builds // BATCH):
        done = compilers.do(0.0, BATCH * costs.compile_there)
        compiled = client.do(done, BATCH * costs.take_back)
    ends["compiled"] = compiled
    checked = []
    for _ in range(shape.snippets):
        took = shape.builds * costs.check_here
        server = compilers if way == "check there" else here
        checked.append(server.do(compiled, took))
    ends["checked here"] = max(checked)
    after = max(checked)  # classes are asked when the check here is through
    there = [max(g.do(after, shape.builds * costs.check_there) for _ in checked) for g in groups]
    ends["checked there"] = max(there)
    columns = max(shape.builds * costs.distinct, 1.0)
    linked = []
    for _ in range(shape.snippets):  # once for all classes
        where = groups[0] if way == "link there" else here
        linked.append(where.do(max(there), columns * costs.link))
    last = max(there)
    for group in groups:
        done = last
        for at in linked:
            block = columns * SECONDS / shape.machines + costs.around_block
            done = max(group.do(max(at, last), block) for _ in range(shape.machines))
        ends["measured"] = max(ends.get("measured", 0.0), done)
    return ends["measured"], [client, here, compilers, *groups[:1]], ends


def main() -> int:
    """Print the costs and the plan."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--snippets", type=int, default=1000)
    parser.add_argument("--builds", type=int, default=40)
    parser.add_argument("--classes", type=int, default=5)
    parser.add_argument("--machines", type=int, default=4, help="of each class")
    args = parser.parse_args()
    shape = Shape(args.snippets, args.builds, args.classes, args.machines)
    costs = measured_costs()
    print("measured here, on the demo:")
    for name, value in costs._asdict().items():
        print(f"  {name:<14} {value:.4g}")
    units = shape.snippets * shape.builds
    count = shape.classes * shape.machines
    print(f"{shape.snippets} snippets x {shape.builds} builds on {count} machines:")
    alone = units * (costs.compile_there / CORES_HERE + costs.check_here / CORES_HERE)
    alone += units * costs.distinct * (SECONDS + costs.link / CORES_HERE)
    print(f"  one machine of {CORES_HERE} cores, one class: {alone / 3600:.1f} h")
    for way in ("as it is", "link there", "check there"):
        total, servers, ends = simulate(costs, shape, way)
        told = ", ".join(f"{name} at {at / 3600:.2f} h" for name, at in ends.items())
        print(f"  {way}: {total / 3600:.2f} h ({told})")
        for one in servers:
            print(f"    {one.name}: busy {one.busy / one.count / total:.0%}")
    tasks = units / BATCH + 2 * shape.snippets * shape.classes * shape.machines
    print(f"  tasks: {tasks:.0f}; one a unit would be {units} for compiling alone")
    print(
        f"  through the scheduler: {units * costs.unit_bytes / 1e9:.1f} GB of units asked for, "
        f"{units * costs.distinct * costs.block_bytes * count / 1e9:.1f} GB of images"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
