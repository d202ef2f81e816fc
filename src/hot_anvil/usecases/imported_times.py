"""Times that something else measured, in place of measuring here."""

from pathlib import Path

from hot_anvil.core.measure.imported_times import Row, make_measurements, read_times
from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import NOT_RUN
from hot_anvil.errors import RequestError
from hot_anvil.workspace import Workspace


def read_imported(file: str) -> list[Row]:
    """Return the times of a file. Raises RequestError that names file and line."""
    try:
        text = Path(file).read_text()
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or "it is no text"
        raise RequestError(f"{file}: cannot be read ({why}).", about="imported") from None
    return read_times(text, file)


def imported_measurements(
    workspace: Workspace, checked: Checked, file: str, baseline: str
) -> tuple[list[Measurements], str]:
    """Return imported times as measurements, of what is not known to be wrong."""
    snippet = checked.snippet.name
    rows = read_imported(file)
    unnamed = next((row for row in rows if not row.snippet), None)
    if unnamed and len(workspace.bench.snippets) > 1:
        raise RequestError(
            f"{file}:{unnamed.line}: the bench has several snippets: name one in a column "
            "'snippet'."
        )
    own = [row for row in rows if row.snippet in ("", snippet)]
    verdicts = {v.candidate: v for v in checked.verdicts}
    for row in own:
        if row.candidate not in verdicts:
            hint = did_you_mean(row.candidate, verdicts) or f" They are: {listed(verdicts)}."
            raise RequestError(f"{file}:{row.line}: no candidate '{row.candidate}'.{hint}")
    usable = [name for name, v in verdicts.items() if v.usable or v.verdict == NOT_RUN]
    kept = [row for row in own if row.candidate in usable]
    all_measurements = make_measurements(kept, snippet, usable, f"times from {Path(file).name}")
    if not all_measurements:
        return [], ""
    shared = [name for name in usable if all(name in c.candidates for c in all_measurements)]
    if not shared:
        raise RequestError(f"{file}: no candidate of {snippet} has times at every size.")
    return all_measurements, baseline if baseline in shared else shared[0]
