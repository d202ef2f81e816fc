"""What was laid out, as text."""

from collections.abc import Sequence

from hot_anvil.core.results.examples import Example
from hot_anvil.views.text.report import Report


def start_report(folder: str, files: Sequence[str], width: int) -> Report:
    """Return where a bench was laid out, and what to do next."""
    report = Report(width)
    report.add(f"laid out in {folder}: {', '.join(files)}")
    kernels = any(file.endswith(".cu") for file in files)  # that have no times to pick by
    report.add(f"next: hot-anvil {'check' if kernels else 'pick'} {folder}")
    return report


def examples_report(examples: Sequence[Example], width: int) -> Report:
    """Return the examples that ship with the tool."""
    report = Report(width)
    report.table(("example", "what it shows"), [(e.name, e.about) for e in examples], "ll")
    return report
