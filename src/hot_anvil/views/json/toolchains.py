"""The compilers of this machine as data."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.views.json.document import Document, document


def toolchains_document(
    toolchains: Sequence[Toolchain],
    silent: Sequence[tuple[str, str]],
    lacking: Mapping[str, str],
) -> Document:
    """Return the document of ``toolchains``."""
    rows = []
    for chain in toolchains:
        drivers = {language: driver.path for language, driver in chain.drivers.items()}
        rows.append(
            {
                "name": chain.name,
                "aliases": list(chain.aliases),
                "family": chain.family,
                "version": chain.version,
                "target": chain.target,
                "instruction_set": chain.isa,
                "drivers": drivers,
                "can": dict(chain.can),
                "lacks": lacking.get(chain.name) or None,
            }
        )
    unusable = [{"path": path, "why": why} for path, why in silent]
    return document("toolchains", toolchains=rows, unusable=unusable)


def places_document(places: Sequence[tuple[str, str]]) -> Document:
    """Return the document of ``toolchains --where``."""
    return document("places", places=[{"what": what, "from": place} for what, place in places])
