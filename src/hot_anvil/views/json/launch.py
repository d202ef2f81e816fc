"""Launches of kernels as data."""

from collections.abc import Sequence
from typing import Any

from hot_anvil.core.kernels.records import KernelLaunch
from hot_anvil.views.json.document import Document, document


def launch_document(found: Sequence[KernelLaunch]) -> Document:
    """Return the document of ``launch``."""
    return document("launch", launches=[launched(one) for one in found])


def launched(one: KernelLaunch) -> Document:
    """Return one launch."""
    return {
        "snippet": one.snippet,
        "candidate": one.candidate,
        "build": one.build,
        "inputs": one.label,
        "simulated": True,
        "grid": list(one.shape.grid),
        "block": list(one.shape.block),
        "ending": one.ending,
        "why": one.why or None,
        "file": one.place.file or None,
        "line": one.place.line or None,
        "races": [
            {"message": why, "file": place.file or None, "line": place.line or None}
            for why, place in one.races
        ],
        "warp_instructions": one.total("warps"),
        "thread_instructions": one.total("threads"),
        "barriers": one.barriers,
        "lines": [_line(row) for row in one.lines],
        "target": one.target,
        "resources": one.resources._asdict() if one.resources else None,
        "no_resources": one.no_resources or None,
        "shared_bytes": one.shared,
        "occupancy": one.occupancy._asdict() if one.occupancy else None,
        "machine_code": [item._asdict() for item in one.machine] if one.machine else None,
        "no_machine_code": one.no_machine or None,
        "maps": [
            {
                "scheduler": mapped.scheduler,
                "processors": mapped.processors,
                "blocks": [placement._asdict() for placement in mapped.placements],
            }
            for mapped in one.maps
        ],
    }


def _line(row: Any) -> Document:
    return {
        "file": row.file or None,
        "line": row.line or None,
        "warp_instructions": row.warps,
        "thread_instructions": row.threads,
        "diverged_branches": row.diverged,
        "sectors": row.sectors,
        "least_sectors": row.least,
        "bank_rounds": row.conflicts,
    }
