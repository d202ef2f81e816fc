"""Two workspaces in one process: each has its own limits, and ends its own programs only."""

import time
from contextlib import suppress
from pathlib import Path
from threading import Event, Thread

from hot_anvil.api import Limits, open_source
from hot_anvil.core.build.records import COMPILED, REFUSED
from hot_anvil.system.process.running import Outcome, run
from hot_anvil.system.process.scope import COMPILE_SECONDS, Scope, current_scope
from hot_anvil.system.process.threads import thread_pool

QUAY = "int quay(int n) { return n * 3; }\n"


def test_outside_a_scope_the_usual_limits_hold_and_inside_its_own() -> None:
    assert current_scope().limits.seconds == COMPILE_SECONDS
    outer, inner = Scope(Limits(2, 3.0)), Scope(Limits(1, 9.0))
    with outer.entered():
        with inner.entered():
            assert current_scope() is inner
        assert current_scope() is outer
        with thread_pool(2) as pool:
            inside = list(pool.map(lambda _: current_scope(), range(4)))
        assert len(set(inside)) == 1 and inside[0].limits == outer.limits
    assert current_scope() is not outer


def test_ending_the_programs_of_one_scope_leaves_those_of_another(tmp_path: Path) -> None:
    ended: dict[str, Outcome] = {}
    one, other = Scope(), Scope()

    def wait(name: str, scope: Scope, seconds: str) -> None:
        with scope.entered():
            ended[name] = run(["sleep", seconds], tmp_path)

    threads = [
        Thread(target=wait, args=("one", one, "60")),
        Thread(target=wait, args=("other", other, "1")),
    ]
    for thread in threads:
        thread.start()
    time.sleep(0.3)
    one.end_all()
    for thread in threads:
        thread.join()
    assert ended["one"].code < 0 and ended["one"].seconds < 30
    assert ended["other"].code == 0
    with one.entered():  # what would start now is ended at once
        assert run(["sleep", "60"], tmp_path).code < 0


def test_an_error_in_one_pool_ends_nothing_of_the_pool_around_it(tmp_path: Path) -> None:
    ended: dict[str, Outcome] = {}

    def fails(_: int) -> None:
        raise ValueError

    def beside(_: int) -> None:
        ended["beside"] = run(["sleep", "0.6"], tmp_path)

    def within(_: int) -> None:
        with suppress(ValueError), thread_pool(2) as inner:
            waiting = inner.submit(run, ["sleep", "60"], tmp_path)
            time.sleep(0.2)
            list(inner.map(fails, range(1)))
        ended["within"] = waiting.result()
        ended["after"] = run(["true"], tmp_path)

    scope = Scope()
    with scope.entered(), thread_pool(2) as outer:
        for work in (outer.submit(beside, 0), outer.submit(within, 0)):
            work.result()
    assert ended["within"].code < 0 and ended["within"].seconds < 30
    assert ended["beside"].code == ended["after"].code == 0


def test_two_workspaces_at_once_have_a_limit_each(tmp_path: Path) -> None:
    """One may not use the memory that compiling takes; the other one's work is its own."""
    made: dict[str, str] = {}

    def compile_under(name: str, limits: Limits) -> None:
        folder = tmp_path / name
        folder.mkdir()
        (folder / "quay.c").write_text(QUAY)
        (built,) = open_source(folder / "quay.c", ["gcc -O2"], limits=limits).compile()
        made[name] = built.status

    work = {"poor": Limits(memory=3 << 20), "rich": Limits()}
    threads = [Thread(target=compile_under, args=item) for item in work.items()]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert made == {"poor": REFUSED, "rich": COMPILED}


def test_what_a_use_case_begins_in_a_pools_thread_ends_with_the_pool() -> None:
    outer, begun, ended = Scope(), Event(), Event()

    def wait(_: int) -> None:
        begun.set()
        end = time.monotonic() + 20
        while time.monotonic() < end and not current_scope().is_ending:
            time.sleep(0.01)
        if current_scope().is_ending:
            ended.set()

    def use_case() -> None:
        with outer.entered(), thread_pool(1) as inner:
            list(inner.map(wait, [0]))

    with suppress(KeyboardInterrupt), outer.entered(), thread_pool(1) as pool:
        pool.submit(use_case)
        assert begun.wait(20)
        raise KeyboardInterrupt
    assert ended.is_set()
    assert not outer.is_ending  # what is begun after it goes on
