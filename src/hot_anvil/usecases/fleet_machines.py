"""The machines of a fleet: their classes, and the toolchains that only they have."""

from hot_anvil.core.arch import isa_name
from hot_anvil.core.fleet.machines import MachineClass, machine_classes
from hot_anvil.core.fleet.spread import Compiled
from hot_anvil.core.toolchain.records import OnMachine, Toolchain
from hot_anvil.system.fleet.engine import Fleet
from hot_anvil.system.fleet.spreading import Spread
from hot_anvil.system.fleet.this_machine import content_of, this_machine
from hot_anvil.system.toolchain.finding import Found
from hot_anvil.workspace import Workspace


def fleet_classes(fleet: Fleet) -> tuple[MachineClass, ...]:
    """Return the classes of the machines that a fleet's usable workers are on."""
    machines = {w.machine.identity: w.machine for w in fleet.workers.values()}
    order = sorted(machines.values(), key=lambda m: (m.processor, m.system, m.name))
    return machine_classes(order)


def with_fleet_toolchains(found: Found, fleet: Fleet) -> Found:
    """Return the toolchains of this machine, and those that only machines of a fleet have.

    These make code for this machine's instruction set; one that is another under the same name
    has its machine's name behind it.
    """
    here = {content_of(chain) for chain in found.toolchains if not chain.flags}
    taken = {name for chain in found.toolchains for name in (chain.name, *chain.aliases)}
    out = list(found.toolchains)
    isa = isa_name(this_machine().architecture)
    for worker in fleet.workers.values():
        contents = {c.name: c.content for c in worker.machine.compilers}
        for chain in worker.toolchains:
            content = contents.get(chain.name, "")
            if not content or content in here or not chain.can["run"] or chain.isa != isa:
                continue
            here.add(content)
            name = chain.name if chain.name not in taken else f"{chain.name}+{worker.machine.name}"
            taken.add(name)
            where = OnMachine(worker.machine.name, content)
            out.append(_elsewhere(chain, name, where))
    return found._replace(toolchains=tuple(out))


def _elsewhere(chain: Toolchain, name: str, where: OnMachine) -> Toolchain:
    drivers = {
        language: driver._replace(identity=f"{where.content} {language}")
        for language, driver in chain.drivers.items()
    }
    return chain._replace(name=name, aliases=(), drivers=drivers, machines=(where,))


def compiled_of(workspace: Workspace) -> Compiled | None:
    """Return where a workspace's units were compiled just now, None without a fleet."""
    spread = workspace.spread
    if not isinstance(spread, Spread):
        return None
    return Compiled(spread.there, spread.here, dict(spread.whys))
