"""What is dear is done once in a command: reading a build's code, following its calls."""

import shutil
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import DEMO
from hot_anvil.api import Options, open_bench
from hot_anvil.core.model import call_graph
from hot_anvil.system.build import jobs


def counted(
    patch: pytest.MonkeyPatch, module: Any, name: str, key: Callable[..., Any]
) -> Counter[Any]:
    """Count the calls of a module's function by what ``key`` makes of their arguments."""
    calls: Counter[Any] = Counter()
    whole = getattr(module, name)

    def once_more(*given: Any) -> Any:
        calls[key(*given)] += 1
        return whole(*given)

    patch.setattr(module, name, once_more)
    return calls


def test_a_pick_reads_each_artefact_and_follows_each_entry_once(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    bench = tmp_path / "tide-gauge"
    shutil.copytree(DEMO, bench)
    read = counted(monkeypatch, jobs, "from_plain", lambda plain: str(plain)[:2000])
    followed = counted(monkeypatch, call_graph, "reached", lambda code, name: (id(code), name))
    builds = ["gcc -O1", "gcc -O2"]
    (picked,) = open_bench(bench, builds).pick(["clamp"], Options(seconds=0.05))
    assert picked.pick.choice
    assert len(read) == 3 and set(read.values()) == {1}  # one more notes what is reached
    assert len(followed) == 6 and set(followed.values()) == {1}  # two entries under each
