"""A real project's flags: what they say of the code is kept, what they say to make is not."""

from typing import Any

import pytest

from hot_anvil.core.build.project_flags import project_flags, without_levels
from hot_anvil.errors import RequestError

SOURCE = "/quay/src/surge.c"


def flags(command: str | list[str], **more: Any) -> tuple[str, ...]:
    key = "command" if isinstance(command, str) else "arguments"
    entry = {"directory": "/quay/build", "file": "../src/surge.c", key: command, **more}
    return project_flags([entry], SOURCE, "compile_commands.json")


@pytest.mark.parametrize(
    ("command", "kept"),
    [
        ("cc -O2 -DEBB=1 -c ../src/surge.c -o surge.o", ("-O2", "-DEBB=1")),
        ("cc -I../include -isystem sys -I /opt/quay x.c",
         ("-I/quay/include", "-isystem", "/quay/build/sys", "-I", "/opt/quay", "x.c")),
        ("cc -MD -MF surge.d -g3 -Werror=all -Wall /quay/src/surge.c", ("-Wall",)),
        ("cc '-DNAME=\"two words\"' -include config.h",
         ('-DNAME="two words"', "-include", "/quay/build/config.h")),
        (["cc", "-std=c11", "-save-temps=obj", "--", "../src/surge.c"], ("-std=c11",)),
    ],
)  # fmt: skip
def test_what_changes_the_code_is_kept(command: str | list[str], kept: tuple[str, ...]) -> None:
    assert flags(command) == kept


def test_a_builds_own_level_counts_more_than_the_projects() -> None:
    assert without_levels(["-O3", "-DEBB"], ["-O1"]) == ("-DEBB",)
    assert without_levels(["-O3", "-DEBB"], ["-march=native"]) == ("-O3", "-DEBB")


@pytest.mark.parametrize(
    ("entries", "told"),
    [
        ({}, "is no compile_commands.json"),
        (["cc -c surge.c"], "is no compile_commands.json"),
        ([], "does not say how /quay/src/surge.c is compiled"),
        ([{"directory": "/quay/src", "file": "surge.cc", "command": "cc"}], "surge.cc"),
        ([{"directory": "/", "file": SOURCE, "command": "cc 'open"}], "cannot be split"),
    ],
)
def test_what_does_not_fit_is_told(entries: Any, told: str) -> None:
    with pytest.raises(RequestError, match=r"compile_commands\.json") as caught:
        project_flags(entries, SOURCE, "compile_commands.json")
    assert told in str(caught.value)
