"""Every check and measurement of a bench: one SQLite file, to which rows are only added."""

import json
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from hot_anvil.errors import RequestError
from hot_anvil.system.process.notices import notice


def refuse_link(path: Path) -> None:
    """Raise RequestError for a link in a store: what is behind it may be somebody else's."""
    if path.is_symlink():
        raise RequestError(
            f"{path}: is a link, and the store follows none, so that nothing elsewhere is changed. "
            f"Remove the link; to keep the store on another disk, link {path.parent} itself."
        )


class Results:
    """The results that a store keeps, at ``path``."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def add(
        self,
        kind: str,
        subject: str,
        document: Any,
        kept_before: bool = True,
        at: float | None = None,
    ) -> int:
        """Add a check or a measurement, of now or of ``at``, and return its number.

        Nothing is ever overwritten. The number is 0 where it cannot be kept.

        Where that cannot be done it is said, and what was found is shown all the same. Results
        that are damaged are set aside; ``kept_before`` tells that they were not just now.
        """
        import sqlite3

        refuse_link(self.path)
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with sqlite3.connect(self.path, timeout=30) as base:
                base.execute(
                    "CREATE TABLE IF NOT EXISTS results (id INTEGER PRIMARY KEY, "
                    "at REAL NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL, "
                    "document TEXT NOT NULL)"
                )
                row = base.execute(
                    "INSERT INTO results (at, kind, subject, document) VALUES (?, ?, ?, ?)",
                    (time.time() if at is None else at, kind, subject, json.dumps(document)),
                )
            base.close()
            return row.lastrowid or 0
        except (sqlite3.Error, OSError) as error:
            if _is_damaged(error) and self._set_aside() and kept_before:
                return self.add(kind, subject, document, False, at)
            notice(f"{self.path}: the result cannot be kept ({error}).")
            return 0

    def of_kind(self, kind: str, without: Sequence[str] = ()) -> list[tuple[int, float, str, Any]]:
        """Return what was recorded of one kind: (number, time, subject, document), oldest first.

        ``without``: fields of the documents that are too large to be read for a list.
        """
        gone = "".join(f", '$.{name}'" for name in without)
        document = f"json_remove(document{gone})" if gone else "document"
        rows = self._select(
            f"SELECT id, at, subject, {document} FROM results WHERE kind = ? ORDER BY id", kind
        )
        return [(number, at, subject, json.loads(text)) for number, at, subject, text in rows]

    def numbered(self, number: int) -> tuple[float, Any]:
        """Return the time and the document of this number, which is there."""
        ((at, text),) = self._select("SELECT at, document FROM results WHERE id = ?", number)
        return at, json.loads(text)

    def _select(self, query: str, value: str | int) -> list[Any]:
        import sqlite3

        refuse_link(self.path)
        if not self.path.exists():
            return []
        try:
            with sqlite3.connect(self.path, timeout=30) as base:
                rows = base.execute(query, (value,)).fetchall()
            base.close()
        except sqlite3.Error as error:
            if _is_damaged(error) and self._set_aside():
                return []
            raise RequestError(f"{self.path}: earlier results cannot be read ({error}).") from None
        return rows

    def _set_aside(self) -> bool:
        """Put damaged results where somebody may look at them; tell whether that could be done."""
        aside = self.path.with_name(f"{self.path.name}.damaged-{int(time.time())}")
        try:
            self.path.rename(aside)
        except OSError:
            return False
        notice(
            f"{self.path} was damaged: it was set aside as {aside.name}, and a new one is begun."
        )
        return True


def _is_damaged(error: Exception) -> bool:
    """Tell whether a database is none any more; a locked one, or a full disk, will pass."""
    import sqlite3

    passing = isinstance(error, sqlite3.OperationalError | OSError)
    malformed = "malformed" in str(error) or "no such column" in str(error)
    return (isinstance(error, sqlite3.DatabaseError) and not passing) or malformed
