"""What about this machine limits how far a measurement can be trusted."""

import os
from pathlib import Path


def environment_notes() -> tuple[str, ...]:
    """Return short notes on what disturbs measurements here, and what that does."""
    notes = []
    if "hypervisor" in _read("/proc/cpuinfo"):
        notes.append(
            "virtual machine: neighbours on the host slow it at times, unseen; ratios are paired "
            "round by round against that"
        )
    governor = _read("/sys/devices/system/cpu/cpu0/cpufreq/scaling_governor").strip()
    if governor and governor != "performance":
        notes.append(f"CPU frequency follows load (governor {governor}): trust ratios, not times")
    load = os.getloadavg()[0]
    if load > 1.0:
        notes.append(f"load {load:.1f} before the measurement: other work shares the CPUs")
    return tuple(notes)


def _read(path: str) -> str:
    try:
        return Path(path).read_text()
    except OSError:
        return ""
