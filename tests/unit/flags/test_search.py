"""The search for flags, with a made-up compiler: what is asked, and what is said of the answer."""

from collections.abc import Callable

from hot_anvil.core.flags.case import Case, Flags, Level
from hot_anvil.core.flags.records import LEVEL, TARGET, with_changes
from hot_anvil.core.flags.search import FlagsFound, search
from hot_anvil.core.flags.told import OFF, ON, Told

LEVELS = (Level("quay-v1", "-march=quay-v1"), Level("quay-v2", "-march=quay-v2"))
_SWITCHES = ("-fpeel", "-fsplit", "-funswitch", "-fmerge")
_OF_LEVEL = {"-O0": (), "-O1": ("-fmerge",), "-O2": ("-fmerge", "-fpeel"), "-O3": _SWITCHES}
_HAS = {"quay-v1": ("-mtide",), "quay-v2": ("-mtide", "-mwave"),
        "native": ("-mtide", "-mwave", "-mspray")}  # fmt: skip
_BRINGS = {"-mwave": ("-mtide",), "-mspray": ()}


class Compiler:
    """A made-up compiler: ``code`` makes a text of what is on; equal texts are equal code."""

    def __init__(self, right: Flags, code: Callable[[frozenset[str]], object], tells: bool = True):
        self.asked: list[Flags] = []
        self._code, self._tells = code, tells
        self._goal = code(self.on(right))

    def on(self, flags: Flags) -> frozenset[str]:
        """Return what flags turn on, their level and macros among it."""
        found: set[str] = {f for f in flags if f.startswith(("-D", "-O"))}
        for flag in flags:
            if flag in _OF_LEVEL:
                found -= set(_SWITCHES)
                found |= set(_OF_LEVEL[flag])
            elif flag.startswith("-march="):
                found |= set(_HAS[flag.partition("=")[2]]) | {flag}
            elif flag.startswith(("-fno-", "-mno-")):
                found.discard(flag.replace("no-", "", 1))
            else:
                found |= {flag, *_BRINGS.get(flag, ())}
        return frozenset(found)

    def told(self, flags: Flags) -> Told:
        if not self._tells:
            return {}
        on = self.on(flags)
        names = (*_SWITCHES, "-mtide", "-mwave", "-mspray")
        return {name: ON if name in on else OFF for name in names}

    def macros(self, flags: Flags) -> frozenset[str]:
        return frozenset(
            name for name in self.on(flags) if name.startswith("-m") and "=" not in name
        )

    def same(self, flags: Flags) -> bool | None:
        self.asked.append(flags)
        if "-fsplit" in flags and "-Dold" in flags:
            return None
        return self._code(self.on(flags)) == self._goal

    def complaint(self, flags: Flags) -> str:
        return "unrecognized command-line option '-fsplit'"


def found(
    left: str, right: str, code: Callable[[frozenset[str]], object], tells: bool = True
) -> tuple[FlagsFound, Flags, Compiler]:
    compiler = Compiler(tuple(right.split()), code, tells)
    case = Case(compiler, "cc", tuple(left.split()), tuple(right.split()), LEVELS)
    answer = search(case)
    return answer, with_changes(case.left, answer.chosen or ()), compiler


def test_a_level_is_taken_apart_into_what_matters() -> None:
    answer, flags, compiler = found("-O2", "-O3", lambda on: "-fsplit" in on)
    assert flags == ("-O2", "-fsplit") and answer.pool == 2 and not answer.asks_for_more
    assert answer.checked == 1 and answer.unexplained == "" and answer.level == ""
    assert len(set(compiler.asked)) <= 4


def test_what_a_level_does_beyond_its_flags_is_said() -> None:
    answer, flags, _ = found("-O2", "-O3", lambda on: "-O3" in on)
    assert flags == ("-O3",) and answer.unexplained.startswith("-O3 does more than")
    assert [change.kind for change in answer.chosen or ()] == [LEVEL]
    # From far below: the level between, and a flag of the one above.
    code = lambda on: ("-fsplit" in on, bool({"-O2", "-O3"} & on))  # noqa: E731
    answer, flags, _ = found("-O0", "-O3", code)
    assert flags == ("-O2", "-fsplit") and answer.unexplained == ""


def test_the_oldest_processors_that_will_do_are_found() -> None:
    right = "-O2 -march=native"
    answer, flags, _ = found("-O2", right, lambda on: "-mtide" in on)
    assert flags == ("-O2", "-mtide") and answer.level == "quay-v1" and answer.asks_for_more
    # The newer brings the older one along, which need not be named.
    answer, flags, _ = found("-O2", right, lambda on: ("-mtide" in on, "-mwave" in on))
    assert flags == ("-O2", "-mwave") and answer.level == "quay-v2" and not answer.beyond
    answer, flags, _ = found("-O2", right, lambda on: ("-mtide" in on, "-mspray" in on))
    assert set(flags) == {"-O2", "-mtide", "-mspray"}
    assert answer.level == "" and answer.beyond == ("-mspray",)
    assert all(change.kind == TARGET for change in answer.chosen or ())


def test_flags_that_nothing_is_told_of_stay_as_they_were_given() -> None:
    answer, flags, _ = found("-O2 -Dold", "-O2 -Dnew", lambda on: "-Dold" in on)
    assert flags == ("-O2",) and [c.name for c in answer.chosen or ()] == ["without -Dold"]
    # A compiler that tells nothing: the flags themselves are what can be found.
    answer, flags, _ = found(
        "-O2", "-O3 -march=native -fmerge", lambda on: "-mspray" in on, tells=False
    )
    assert flags == ("-O2", "-march=native") and answer.made_for == ("-march=native",)
    assert answer.unexplained == ""


def test_what_the_compiler_tells_of_and_refuses_is_left_out() -> None:
    answer, flags, _ = found("-O2 -Dold", "-O3 -Dold", lambda on: "-funswitch" in on)
    assert flags == ("-O2", "-Dold", "-funswitch") and answer.refused == ("-fsplit",)


def test_where_no_set_does_none_is_claimed() -> None:
    """Code that hangs on the order of flags: nothing added to the left makes it."""
    compiler = Compiler(("-O3", "-O2"), lambda on: on)
    compiler.same = lambda flags: False  # type: ignore[method-assign]
    case = Case(compiler, "cc", ("-O2",), ("-O3",), ())
    assert search(case).chosen is None
