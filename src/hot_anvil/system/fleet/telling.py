"""What a worker tells of itself and of its machine when a fleet is looked at."""

from typing import Any

from hot_anvil.core.results.packing import pack
from hot_anvil.system.fleet.this_machine import our_version, this_machine
from hot_anvil.system.toolchain.finding import find_toolchains


def tell_all() -> dict[str, Any]:
    """Return plain data: the version first, which says whether the rest can be read."""
    chains = tuple(chain for chain in find_toolchains().toolchains if not chain.flags)
    return {
        "version": our_version(),
        "machine": pack(this_machine()),
        "toolchains": pack(chains),
    }
