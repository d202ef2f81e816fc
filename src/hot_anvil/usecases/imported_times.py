"""Times that something else measured, in place of measuring here."""

from pathlib import Path
from typing import TYPE_CHECKING

from hot_anvil.core.measure.imported_times import Row, make_contests, read_times
from hot_anvil.core.measure.measurements import Contest
from hot_anvil.core.measure.results import Checked
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.verify.verdicts import CORRECT, NOT_RUN
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from hot_anvil.api import Workshop


def read_outside(file: str) -> list[Row]:
    """Return the times of a file. Raises RequestError that names file and line."""
    try:
        text = Path(file).read_text()
    except (OSError, UnicodeDecodeError) as error:
        why = getattr(error, "strerror", None) or "it is no text"
        raise RequestError(f"--outside {file}: cannot be read ({why}).") from None
    return read_times(text, file)


def outside_contests(
    workshop: "Workshop", checked: Checked, file: str, baseline: str
) -> tuple[list[Contest], str]:
    """Return contests of times that something else measured, of what is not known to be wrong."""
    snippet = checked.snippet.name
    rows = read_outside(file)
    unnamed = next((row for row in rows if not row.snippet), None)
    if unnamed and len(workshop.bench.snippets) > 1:
        raise RequestError(
            f"{file}:{unnamed.line}: the bench has several snippets: name one in a column "
            "'snippet'."
        )
    own = [row for row in rows if row.snippet in ("", snippet)]
    verdicts = {v.candidate: v.verdict for v in checked.verdicts}
    for row in own:
        if row.candidate not in verdicts:
            hint = did_you_mean(row.candidate, verdicts) or f" They are: {listed(verdicts)}."
            raise RequestError(f"{file}:{row.line}: no candidate '{row.candidate}'.{hint}")
    usable = [name for name, verdict in verdicts.items() if verdict in (CORRECT, NOT_RUN)]
    kept = [row for row in own if row.candidate in usable]
    contests = make_contests(kept, snippet, usable, f"times from {Path(file).name}")
    if not contests:
        return [], ""
    shared = [name for name in usable if all(name in c.candidates for c in contests)]
    if not shared:
        raise RequestError(f"{file}: no candidate of {snippet} has times at every size.")
    return contests, baseline if baseline in shared else shared[0]
