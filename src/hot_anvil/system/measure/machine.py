"""What about this machine limits how far a measurement can be trusted."""

import os
import platform
import re
from pathlib import Path

from hot_anvil.system.store.files import digest


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
    if not Path("/sys/bus/event_source/devices/cpu").exists():
        notes.append(
            "no hardware counters here: cache misses and the like cannot be counted, so no cause "
            "is read off them"
        )
    load = os.getloadavg()[0]
    if load > 1.0:
        notes.append(f"load {load:.1f} before the measurement: other work shares the CPUs")
    return tuple(notes)


def machine_identity() -> tuple[str, str]:
    """Return (short identity of this machine, what it is in words).

    Equal identities mean that times may be compared at all.
    """
    model = processor_model()
    cpus = os.cpu_count() or 1
    own = _read("/etc/machine-id").strip() or platform.node()
    text = f"{model}, {cpus} CPU{'' if cpus == 1 else 's'}"
    return digest(own, text, platform.machine())[:6], text


def processor_model() -> str:
    """Return the model of the processor as the system names it."""
    info = _read("/proc/cpuinfo")
    named = re.search(r"^(?:model name|CPU part|cpu model)\s*:\s*(.+)$", info, re.M)
    return named[1].strip() if named else platform.machine()


def _read(path: str) -> str:
    try:
        return Path(path).read_text()
    except OSError:
        return ""
