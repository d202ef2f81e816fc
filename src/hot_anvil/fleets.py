"""The Python API of many machines: join a fleet, and ask it what ``Anvil`` answers here.

    import hot_anvil.fleets

    with hot_anvil.fleets.join("tcp://10.0.0.1:8786") as fleet:
        anvil = fleet.open_bench("tide-gauge")
        answer = fleet.pick(anvil)
        for choice in answer.choices:
            print(choice.snippet, choice.choice)

A fleet is a scheduler and workers of Dask's ``distributed``, which users start by its own commands;
docs/fleet.md says how, and whom it trusts.
"""

from collections.abc import Collection, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

from hot_anvil.api import NO_WEIGHTS, Anvil, open_bench, open_source
from hot_anvil.core.experiments.records import SECONDS
from hot_anvil.core.measure.options import DEFAULTS, Options
from hot_anvil.core.verify.options import CALL_SECONDS, CheckOptions
from hot_anvil.system.fleet.engine import CONNECT_SECONDS
from hot_anvil.system.fleet.engine import Fleet as Joined
from hot_anvil.system.fleet.spreading import Spread
from hot_anvil.usecases.fleet_machines import (
    compiled_of,
    fleet_classes,
    with_fleet_toolchains,
)
from hot_anvil.workspace import Elsewhere

if TYPE_CHECKING:
    from hot_anvil.core.fleet.machines import MachineClass
    from hot_anvil.core.fleet.results import OnFleet
    from hot_anvil.core.fleet.spread import Compiled
    from hot_anvil.usecases.on_fleet import Question

__all__ = ["Fleet", "join"]


class Fleet:
    """A joined fleet; use it as a context, so that it is left whatever happens."""

    def __init__(self, joined: Joined) -> None:
        self._joined = joined

    def __enter__(self) -> "Fleet":
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        """Leave the fleet; what still runs there for us is ended."""
        self._joined.close()

    @property
    def classes(self) -> "tuple[MachineClass, ...]":
        """Its machines, by which of them may be compared."""
        return fleet_classes(self._joined)

    @property
    def offers(self) -> Mapping[str, Mapping[str, int]]:
        """What the workers of each machine offer together: name -> resource -> how much."""
        out: dict[str, dict[str, int]] = {}
        for worker in self._joined.workers.values():
            own = out.setdefault(worker.machine.name, {})
            for resource, much in worker.offers.items():
                own[resource] = own.get(resource, 0) + int(much)
        return out

    @property
    def unusable(self) -> tuple[tuple[str, str], ...]:
        """The workers that cannot be used, and why."""
        return self._joined.unusable

    @property
    def elsewhere(self) -> Elsewhere:
        """What it adds to a bench that is opened: where to compile, and with what."""
        fleet = self._joined
        return Elsewhere(lambda found: with_fleet_toolchains(found, fleet), Spread(fleet))

    def open_bench(self, path: str | Path, builds: Sequence[str] = (), **named: Any) -> Anvil:
        """Open a bench as ``hot_anvil.open_bench`` does, to be compiled on the fleet."""
        return open_bench(path, builds, elsewhere=self.elsewhere, **named)

    def open_source(self, path: str | Path, builds: Sequence[str] = (), **named: Any) -> Anvil:
        """Open a source as ``hot_anvil.open_source`` does, to be compiled on the fleet."""
        return open_source(path, builds, elsewhere=self.elsewhere, **named)

    def compiled(self, anvil: Anvil) -> "Compiled | None":
        """Return where the units of a bench were compiled just now."""
        return compiled_of(anvil.workspace)

    def check(
        self,
        anvil: Anvil,
        snippets: Sequence[str] = (),
        call_seconds: float = CALL_SECONDS,
        repeat: int = 2,
    ) -> "OnFleet":
        """Judge every candidate here, then on one machine of each class."""
        from hot_anvil.usecases.verification import check_snippets

        options = CheckOptions(call_seconds, repeat)
        return self._checked_first(
            anvil, "check", NO_WEIGHTS, snippets, options,
            lambda workspace: check_snippets(workspace, snippets, options),
        )  # fmt: skip

    def measure(
        self,
        anvil: Anvil,
        snippets: Sequence[str] = (),
        options: Options = DEFAULTS,
        call_seconds: float = CALL_SECONDS,
        weights: Mapping[str, float] = NO_WEIGHTS,
    ) -> "OnFleet":
        """Check, then measure on all machines of each class what is correct there."""
        from hot_anvil.usecases.measurement import measure_snippets

        return self._checked_first(
            anvil, "measure", weights, snippets, CheckOptions(call_seconds),
            lambda workspace: measure_snippets(workspace, snippets, options, call_seconds),
        )  # fmt: skip

    def pick(
        self,
        anvil: Anvil,
        snippets: Sequence[str] = (),
        options: Options = DEFAULTS,
        call_seconds: float = CALL_SECONDS,
        weights: Mapping[str, float] = NO_WEIGHTS,
    ) -> "OnFleet":
        """Do the whole job on each class, and choose one build for all of them."""
        from hot_anvil.usecases.picking import pick_snippets

        return self._checked_first(
            anvil, "pick", weights, snippets, CheckOptions(call_seconds),
            lambda workspace: pick_snippets(workspace, snippets, options, call_seconds),
        )  # fmt: skip

    def whatif(
        self,
        anvil: Anvil,
        build: str,
        snippets: Sequence[str] = (),
        entries: Collection[str] = (),
        seconds: float = SECONDS,
        seed: int | None = None,
        call_seconds: float = CALL_SECONDS,
    ) -> "OnFleet":
        """Return what would make entries faster on each class; experiments are compiled here."""
        from hot_anvil.usecases.on_fleet import ask_fleet
        from hot_anvil.usecases.whatif import try_experiments

        asked = build, snippets, entries, seconds, seed, call_seconds
        return ask_fleet(
            anvil.workspace, self._joined, "whatif",
            lambda workspace: try_experiments(workspace, *asked), NO_WEIGHTS,
        )  # fmt: skip

    def _checked_first(
        self,
        anvil: Anvil,
        command: str,
        weights: Mapping[str, float],
        snippets: Sequence[str],
        options: CheckOptions,
        question: "Question",
    ) -> "OnFleet":
        from hot_anvil.usecases.on_fleet import ask_fleet
        from hot_anvil.usecases.verification import check_snippets

        return ask_fleet(
            anvil.workspace, self._joined, command, question, weights, snippets,
            lambda workspace: check_snippets(workspace, snippets, options),
        )  # fmt: skip


def join(address: str, seconds: float = CONNECT_SECONDS) -> Fleet:
    """Join the fleet of a scheduler, named by its address or by a scheduler file.

    Raises MissingError where none answers within ``seconds``, where it runs another version of the
    engine, or where no worker can be used.
    """
    return Fleet(Joined(address, seconds))
