"""What a worker does with a request: in a process of its own, by the very same compiler, or not."""

import os
import time
from pathlib import Path
from types import SimpleNamespace

import pytest

from conftest import SOURCES
from hot_anvil.api import open_source
from hot_anvil.core.build.records import COMPILED
from hot_anvil.errors import MissingError
from hot_anvil.system.build.grid import plan_jobs
from hot_anvil.system.fleet import handling, joining
from hot_anvil.system.fleet.child import LENGTH
from hot_anvil.system.fleet.handling import run_in_child
from hot_anvil.system.fleet.joining import tell_by_value, why_unusable
from hot_anvil.system.fleet.own_files import own_files
from hot_anvil.system.fleet.requests import Compile, Failed, Given, JobAsked, from_bytes, to_bytes
from hot_anvil.system.fleet.this_machine import content_of, our_version
from hot_anvil.system.process.scope import Limits
from hot_anvil.usecases.serving import serve


@pytest.fixture
def request_of(tmp_path: Path) -> Compile:
    """A request to compile one source."""
    source = tmp_path / "surge.c"
    source.write_text((SOURCES / "quay.c").read_text())
    workspace = open_source(source, ["gcc -O2"], ["clamp"]).workspace
    found, pairs = workspace.found, [(workspace.bench.snippets[0], workspace.plan.builds[0])]
    jobs = plan_jobs(pairs, found.toolchains, found.families, workspace.store.root).values()
    asked = tuple(JobAsked(job, content_of(job.toolchain)) for job in jobs)
    files = own_files(jobs, workspace.store.root)
    return Compile(Given(workspace.store.root, files, {}, "", Limits(1, 60.0)), asked)


def sent(request: object, version: str = "") -> bytes:
    return (version or our_version()).encode() + b"\n" + to_bytes(request)


def test_only_the_very_same_compiler_will_do(request_of: Compile) -> None:
    (made,) = serve(request_of)
    assert made.unit.status == COMPILED and "surge.c" in made.read and made.artefact
    other = request_of.jobs[0]._replace(content="another")
    assert serve(request_of._replace(jobs=(other,))) == (None,)


def test_a_child_goes_on_with_the_next_request_and_is_replaced_when_it_died(
    request_of: Compile, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(handling, "_idle", [])
    answers = [from_bytes(run_in_child(sent(request_of), 60, lambda: True, True)) for _ in "ab"]
    assert answers[0] == answers[1] and answers[0][0].unit.status == COMPILED
    (child,) = handling._idle
    assert child.asked == 2
    os.kill(child.process.pid, 9)
    child.process.wait()
    again = from_bytes(run_in_child(sent(request_of), 60, lambda: True, True))
    assert again[0].unit.status == COMPILED
    handling._idle.pop().end()


def test_what_nobody_waits_for_is_ended(request_of: Compile) -> None:
    began = time.monotonic()
    # Each is another command, or the store would have it after the first.
    slow = request_of._replace(
        jobs=tuple(one._replace(job=one.job._replace(key=f"{one.job.key}{k}"))
                   for one in request_of.jobs for k in range(400))
    )  # fmt: skip
    wanted = iter([True] * 10)
    answer = from_bytes(run_in_child(sent(slow), 600, lambda: next(wanted, False)))
    assert answer == Failed("nobody waits for it any more")
    late = from_bytes(run_in_child(sent(slow), 0.3, lambda: True))
    assert isinstance(late, Failed) and "stopped after" in late.why
    assert time.monotonic() - began < 60  # far less than it would take


def test_what_is_no_request_is_said(request_of: Compile) -> None:
    told = from_bytes(run_in_child(sent(request_of, "0.1 (of long ago)"), 60, lambda: True))
    assert isinstance(told, Failed) and "0.1 (of long ago) asks" in told.why
    told = from_bytes(run_in_child(sent("tide"), 60, lambda: True))
    assert isinstance(told, Failed) and told.ours and "str is no request" in told.why
    broken = run_in_child(our_version().encode() + b"\nnothing", 60, lambda: True)
    assert "ended with" in from_bytes(broken).why
    assert LENGTH.size == 8


def test_workers_of_another_version_are_not_used() -> None:
    offers = {"resources": {"measure": 1.0}, "nthreads": 1}
    assert not why_unusable({"version": our_version()}, offers)
    told = why_unusable({"version": "0.1 (abc)"}, offers)
    assert told == f"it has Hot Anvil 0.1 (abc), this is {our_version()}"
    assert "start it with --nthreads 1" in why_unusable(
        {"version": our_version()}, {**offers, "nthreads": 2}
    )
    assert "does not tell" in why_unusable(OSError("no route"), offers)
    assert tell_by_value("of ours")()["version"] == our_version()


def test_an_engine_of_another_version_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    versions = (("client", "2"), ("scheduler", "1"))
    sides = {side: {"packages": {"distributed": version}} for side, version in versions}
    client = SimpleNamespace(get_versions=lambda: sides, close=lambda timeout: None)
    module = SimpleNamespace(Client=lambda **given: client)
    monkeypatch.setattr(joining, "import_module", lambda name: module)
    with pytest.raises(MissingError, match="the scheduler runs distributed 1, this is 2: install"):
        joining.connected("tcp://10.0.0.1:8786", 1.0)


def test_own_files_are_those_below_the_folder(tmp_path: Path) -> None:
    (tmp_path / "inc").mkdir()
    (tmp_path / "deep").mkdir()
    files = {
        "surge.c": '#include "deep/a.h"\n#if 0\n# include <b.h>\n#endif\n#include <stdio.h>\n',
        "deep/a.h": '#include "../c.h"\n#include "/etc/passwd"\n',
        "inc/b.h": '#include "missing.h"\n',
        "c.h": "#include WHICH\n",
        "inc/which.h": "",
        "forced.h": "",
        "notes.txt": "",
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    source = tmp_path / "surge.c"
    builds = ["gcc -O2 -Iinc -include forced.h"]
    workspace = open_source(source, builds, ["clamp"]).workspace
    found, pairs = workspace.found, [(workspace.bench.snippets[0], workspace.plan.builds[0])]
    jobs = list(plan_jobs(pairs, found.toolchains, found.families, str(tmp_path)).values())
    assert set(own_files(jobs, str(tmp_path))) == set(files) - {"notes.txt"}
