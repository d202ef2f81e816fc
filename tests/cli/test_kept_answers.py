"""Past answers again, and one file to send: exactly as they were, without compilers or harm."""

import json
import shutil
import stat
import zipfile
from collections.abc import Mapping
from pathlib import Path

import pytest

from conftest import document, hot_anvil, refused, write_bench

SOURCE = """\
int tide_sum(const int *levels, int n)
{
    int sum = 0;
    for (int i = 0; i < n; i++)
        sum += levels[i];
    return sum;
}
"""
BENCH = """\
title = "Tide sums"
[flags]
plain = "-O0"
fast = "-O2"
[grid]
toolchains = ["gcc"]
flags = ["plain", "fast"]
[[snippet]]
name = "sums"
sources = ["sums.c"]
[snippet.inputs]
levels = { fill = "ramp(1, 2)", count = "n" }
n = 64
"""


@pytest.fixture(scope="module")
def bench(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_bench(tmp_path_factory.mktemp("kept") / "quay", BENCH, sums=SOURCE)


@pytest.fixture(scope="module")
def picked(bench: Path) -> tuple[str, str]:
    """What pick answered, as text and as JSON of a later run."""
    text = hot_anvil("pick", bench, "--seconds", "0.05")
    plain = hot_anvil("pick", bench, "--seconds", "0.05", "--format", "json")
    assert text.returncode == plain.returncode == 0, text.stderr + plain.stderr
    return text.stdout, plain.stdout


def test_an_answer_is_shown_again_exactly_as_it_was(
    bench: Path, picked: tuple[str, str], tmp_path: Path
) -> None:
    heads = document("history", bench)["answers"]
    assert [head["command"] for head in heads] == ["pick", "pick"]
    first, last = (str(head["number"]) for head in heads)
    (bench / "sums.c").rename(tmp_path / "away.c")  # nothing is compiled for it
    try:
        assert hot_anvil("show", bench, first, PATH="/nowhere").stdout == picked[0]
        assert hot_anvil("show", bench, "--format", "json").stdout == picked[1]
        assert hot_anvil("show", bench, last, "--format", "json").stdout == picked[1]
    finally:
        (tmp_path / "away.c").rename(bench / "sums.c")
    assert f"      {last}  " in hot_anvil("history", bench, PATH="/nowhere").stdout
    page = tmp_path / "one.html"
    assert hot_anvil("show", bench, first, "--format", "page", "--out", page).returncode == 0
    assert "the fastest" in page.read_text()
    assert "Kept are" in refused("show", bench, "999")
    assert "is about sums" in refused("show", bench, "--snippet", "ebb")
    assert "one number" in refused("show", bench, "1", "2")


def test_answers_are_drawn_or_refused_in_words(
    bench: Path, picked: tuple[str, str], tmp_path: Path
) -> None:
    for draw, name in (("ranking", "a.png"), ("costs", "b.svg"), ("times", "c.png")):
        done = hot_anvil("show", bench, "--plot", tmp_path / name, "--draw", draw)
        assert done.returncode == 0 and f"drawn: {tmp_path / name}" in done.stderr
        assert (tmp_path / name).stat().st_size > 5000
    assert (tmp_path / "a.png").read_bytes()[:4] == b"\x89PNG"
    assert "no sweep" in refused("show", bench, "--plot", tmp_path / "d.png", "--draw", "growth")
    assert "draws ranking" in refused("show", bench, "--plot", tmp_path / "d.png", "--draw",
                                      "tally")  # fmt: skip
    assert ".png or .svg" in refused("ledger", bench, "--plot", "x.gif")
    assert "no folder" in refused("ledger", bench, "--plot", tmp_path / "no" / "x.png")
    done = hot_anvil("ledger", bench, "--plot", tmp_path / "heat.svg")
    assert done.returncode == 0 and "sum += levels[i];" in hot_anvil("ledger", bench).stdout
    assert hot_anvil("history", bench, "--plot", tmp_path / "h.png").returncode == 0


@pytest.fixture(scope="module")
def export(bench: Path, picked: tuple[str, str], tmp_path_factory: pytest.TempPathFactory) -> Path:
    file = tmp_path_factory.mktemp("sent") / "quay.anvil.zip"
    done = hot_anvil("export", bench, "--out", file)
    assert done.returncode == 0, done.stderr
    return file


def test_an_export_shows_everything_elsewhere_and_runs_nothing(
    export: Path, picked: tuple[str, str], tmp_path: Path
) -> None:
    with zipfile.ZipFile(export) as sent:
        names = sent.namelist()
        assert {"bench/anvil.toml", "bench/sums.c", "page.html", "about.json"} <= set(names)
        assert sum(name.endswith((".o", ".s")) for name in names) == 4
        plain = [name for name in names if name.endswith("-pick.document.json")]
        assert json.loads(sent.read(plain[-1])) == json.loads(picked[1])
    there = tmp_path / "there"
    laid = hot_anvil("import", export, there, PATH="/nowhere")
    assert laid.returncode == 0 and "Tide sums, 2 answers" in laid.stdout
    assert hot_anvil("show", there, PATH="/nowhere", COLUMNS="100").returncode == 0
    assert hot_anvil("show", there, "--format", "json", PATH="/nowhere").stdout == picked[1]
    page = tmp_path / "page.html"
    made = hot_anvil("report", there, "--out", page, PATH="/nowhere")
    assert made.returncode == 0, made.stderr
    assert "imported from quay.anvil.zip" in page.read_text()
    assert "sum += levels[i]" in (there / "sums.c").read_text()
    assert not (there / ".hot-anvil" / "artefacts").exists()
    assert "not empty" in refused("import", export, there)


def tampered(export: Path, file: Path, change: Mapping[str, bytes | None]) -> Path:
    """Write an export with members changed, added, or (None) left out."""
    with zipfile.ZipFile(export) as sent, zipfile.ZipFile(file, "w") as out:
        kept = {name: sent.read(name) for name in sent.namelist()}
        for name, data in {**kept, **change}.items():
            if data is not None:
                out.writestr(name, data)
    return file


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"../escape.c": b"x"}, "no export of ours"),
        ({"/etc/escape": b"x"}, "no export of ours"),
        ({"bench/../../escape.c": b"x"}, "no export of ours"),
        ({"bench\\..\\escape.c": b"x"}, "no export of ours"),
        ({"bench/sums.c/deeper": b"x"}, "twice"),
        ({"about.json": b"{}"}, "no export that this version"),
        ({"about.json": b"[" * 100_000}, "damaged"),
        ({"about.json": None}, "no about.json"),
        ({"page.json": b'{"records": [["os:system", ["a"]]], "value": [0, "true"]}'}, "page in it"),
        ({"bench/anvil.toml": None}, "no anvil.toml"),
    ],
)
def test_a_hostile_export_does_no_harm(
    export: Path, tmp_path: Path, change: dict[str, bytes | None], said: str
) -> None:
    evil = tampered(export, tmp_path / "evil.zip", change)
    assert said in refused("import", evil, tmp_path / "in" / "there")
    assert not list(tmp_path.glob("**/escape*")) and not (tmp_path / "in").exists()


def test_links_bombs_and_foreign_stores_in_an_export(export: Path, tmp_path: Path) -> None:
    linked = tampered(export, tmp_path / "linked.zip", {})
    with zipfile.ZipFile(linked, "a") as out:
        info = zipfile.ZipInfo("bench/passwd.c")
        info.external_attr = (stat.S_IFLNK | 0o777) << 16
        out.writestr(info, "/etc/passwd")
    assert "no links" in refused("import", linked, tmp_path / "a")
    bomb = tmp_path / "bomb.zip"
    shutil.copy(export, bomb)
    with zipfile.ZipFile(bomb, "a", zipfile.ZIP_DEFLATED) as out:
        out.writestr("code/zeros.o", bytes(300 << 20))
    assert "larger than any file" in refused("import", bomb, tmp_path / "b")
    odd = {
        "answers/7-pick.json": b'{"answer": {"records": [], "value": 1}}',
        "bench/.hot-anvil/results.sqlite": b"not ours",
    }
    done = hot_anvil("import", tampered(export, tmp_path / "odd.zip", odd), tmp_path / "c")
    assert done.returncode == 0 and "answers/7-pick.json" in done.stderr
    assert document("history", tmp_path / "c")["answers"]


def test_an_answer_that_does_not_hold_together_is_no_fault(export: Path, tmp_path: Path) -> None:
    with zipfile.ZipFile(export) as sent:
        name = next(n for n in sent.namelist() if n.endswith("-pick.json"))
        text = sent.read(name).decode()
    broken = text.replace('"sums"', "[-1]", 3)
    evil = tampered(export, tmp_path / "odd.zip", {name: broken.encode()})
    done = hot_anvil("import", evil, tmp_path / "there")
    assert done.returncode == 0
    for head in document("history", tmp_path / "there")["answers"]:
        shown = hot_anvil("show", tmp_path / "there", str(head["number"]))
        assert shown.returncode in (0, 2) and "fault" not in shown.stderr
