"""Numbers as people read them: three significant digits, units always."""

from collections.abc import Sequence

_TIMES = ((1.0, "s"), (1e-3, "ms"), (1e-6, "us"), (1e-9, "ns"))


def digits(value: float) -> str:
    """Return a number with three significant digits and no exponent."""
    if value == 0:
        return "0"
    if abs(value) >= 99.95:
        return f"{value:.0f}"
    if abs(value) >= 9.995:
        return f"{value:.1f}"
    if abs(value) >= 0.9995:
        return f"{value:.2f}"
    return f"{value:.3f}" if abs(value) >= 0.09995 else f"{value:.3g}"


def significant(value: float) -> str:
    """Return a number of any size with three significant digits, "infinitely far" for no number."""
    return f"{value:.3g}" if value < float("inf") else "infinitely far"


def whole(value: float) -> str:
    """Return a size with three significant digits and no exponent: 1400."""
    return f"{float(f'{value:.3g}'):.0f}" if value >= 99.5 else digits(value)


def duration(seconds: float | None) -> str:
    """Return a time with its unit, "unknown" for None."""
    if seconds is None:
        return "unknown"
    for unit, name in _TIMES:
        if seconds >= unit * 0.9995:
            return f"{digits(seconds / unit)} {name}"
    return f"{digits(seconds / 1e-9)} ns"


def size(count: int | None) -> str:
    """Return bytes with their unit."""
    return "unknown" if count is None else f"{count} B"


def memory(count: int) -> str:
    """Return bytes of memory in MiB."""
    return f"{digits(count / (1 << 20))} MiB"


def ratio(value: float) -> str:
    """Return a ratio such as 0.42x."""
    return f"{digits(value)}x"


def interval(low: float, high: float) -> str:
    """Return an interval of ratios, "unknown" for one without an end."""
    if high == float("inf"):
        return "unknown"
    return f"{digits(low)} to {digits(high)}"


def percent(share: float) -> str:
    """Return a share in per cent, "unknown" for one without an end."""
    if share == float("inf"):
        return "unknown"
    return f"{digits(share * 100)} %"


def halves(build: str) -> tuple[str, str]:
    """Return a build's name in two: toolchain, flags; "" for the flags of a name without."""
    for sign in (":", " "):
        toolchain, found, flags = build.partition(sign)
        if found:
            return toolchain, flags
    return build, ""


def plural(count: int, noun: str) -> str:
    """Return "1 line", "2 lines"."""
    return f"{count} {noun}" + ("" if count == 1 else "s")


def joined(items: Sequence[str]) -> str:
    """Return items joined by commas."""
    return ", ".join(items)
