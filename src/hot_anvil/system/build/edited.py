"""Private copies of a bench's sources, to compile edits of: the bench's own files stay as they are.

The copy has the files that were compiled, under the same names and with the same lines, so that
what is compared by line is compared rightly.
"""

from collections.abc import Mapping
from pathlib import Path

from hot_anvil.core.names import listed
from hot_anvil.errors import RequestError
from hot_anvil.system.store.files import digest, write_whole
from hot_anvil.system.store.store import Store


def store_of_copy(store: Store, texts: Mapping[str, str]) -> Store:
    """Return a store that compiles in a copy holding ``texts``: file -> text.

    What it makes is kept in the store given. Raises RequestError where a file lies outside the
    bench's folder.
    """
    outside = [file for file in texts if ".." in Path(file).parts]
    if outside:
        raise RequestError(
            f"{listed(outside)}: lies outside the folder that sources are compiled in, so no copy "
            "can be edited."
        )
    name = digest("edited", *(part for file in sorted(texts) for part in (file, texts[file])))
    root = store.folder / "edited" / name
    for file, text in texts.items():
        place = root / file
        data = text.encode(errors="surrogateescape")
        if not place.is_file() or place.read_bytes() != data:
            place.parent.mkdir(parents=True, exist_ok=True)
            write_whole(place, data)
    return Store(str(root), folder=store.folder)
