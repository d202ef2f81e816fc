"""One file with a bench, what was found out about it, and its code; and laying such a file out.

What comes from elsewhere is shown, never run: answers and the page go into the new bench's results,
marked with the file they came from; objects and assembly lie in a folder that nothing reads.
"""

import json
import re
import time
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from hot_anvil._version import __version__
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.config.records import find_snippets
from hot_anvil.core.inputs.fills import file_named
from hot_anvil.core.results.answers import KeptAnswer
from hot_anvil.core.results.packing import pack, unpack
from hot_anvil.core.results.pages import Page
from hot_anvil.errors import RequestError, cannot
from hot_anvil.system.bench.opening import BENCH_FILE
from hot_anvil.system.measure.machine import machine_identity
from hot_anvil.system.store.export_file import read_export, write_export
from hot_anvil.system.store.files import parse_toml, read_json
from hot_anvil.system.store.results import Results
from hot_anvil.system.store.store import Store
from hot_anvil.usecases.answers import answer_of, keep_imported, kept_answer, kept_heads
from hot_anvil.usecases.pages import make_page
from hot_anvil.workspace import Workspace, usecase

FORMAT = 1
ABOUT, PAGE = "about.json", "page.json"
PAGE_KIND = "page"


class Exported(NamedTuple):
    """What goes into an export."""

    page: Page
    answers: tuple[KeptAnswer, ...]
    files: Mapping[str, bytes]
    left_out: tuple[str, ...]  # files that the bench names, and that lie outside its folder


class Imported(NamedTuple):
    """What an export held."""

    folder: str
    title: str
    answers: tuple[int, ...]  # their numbers here
    unreadable: tuple[str, ...]


@usecase
def gather_export(workspace: Workspace, snippets: Sequence[str] = ()) -> Exported:
    """Return all that an export of a bench holds; nothing is measured."""
    root = Path(workspace.bench.root)
    bench_file = Path(workspace.bench.file)
    if bench_file.suffix != ".toml":
        raise RequestError(
            f"{bench_file}: an export is of a bench, a folder with {BENCH_FILE}; 'hot-anvil start' "
            "makes one of a source."
        )
    names = [one.name for one in find_snippets(workspace.bench, snippets)]
    page = make_page(workspace, (), snippets)
    heads = kept_heads(workspace.store.results, names)
    answers = []
    for head in heads:
        try:
            answers.append(kept_answer(workspace.store.results, head.number))
        except RequestError:
            continue  # of a version that nothing can read
    wanted = _named(parse_toml(bench_file.read_text()))
    files = {f"bench/{name}": data for name, data in _bench_files(workspace, root, wanted)}
    files[f"bench/{BENCH_FILE}"] = bench_file.read_bytes()
    left_out = [name for name in wanted if _outside(root, name)]
    files |= dict(_code_files(workspace, names))
    files |= {
        f"answers/{one.number}-{one.answer.command}.json": _json(
            {**one._replace(answer=None)._asdict(), "answer": pack(one.answer)}  # type: ignore[arg-type]
        )
        for one in answers
    }
    files[PAGE] = _json(pack(page))
    machine, text = machine_identity()
    about = {
        "hot_anvil_export": FORMAT, "version": __version__, "at": time.time(),
        "title": workspace.bench.title, "machine": machine, "machine_text": text,
        "left_out": left_out,
    }  # fmt: skip
    files[ABOUT] = _json(about)
    return Exported(page, tuple(answers), files, tuple(left_out))


def save_export(path: Path, exported: Exported, more: Mapping[str, bytes]) -> None:
    """Write an export with more files in it: what views made of it."""
    write_export(path, {**exported.files, **more})


def _json(plain: Any) -> bytes:
    return json.dumps(plain, indent=1).encode()


def _bench_files(
    workspace: Workspace, root: Path, named: Sequence[str]
) -> Iterator[tuple[str, bytes]]:
    """Give the bench's own files: what it names, and what its sources include of their own."""
    own = list(named)
    for built in workspace.compile():
        for unit in built.units:
            if unit.artefact:
                sources = read_json(workspace.store.artefact(unit.artefact).sources) or {}
                own += sources
    for name in dict.fromkeys(own):
        file = root / name
        if not _outside(root, name) and file.is_file():
            yield file.resolve().relative_to(root.resolve()).as_posix(), file.read_bytes()


def _named(value: Any) -> list[str]:
    """Return every text of a bench's tables that may be the name of a file."""
    if isinstance(value, Mapping):
        return [name for one in value.values() for name in _named(one)]
    if isinstance(value, list):
        return [name for one in value for name in _named(one)]
    if not isinstance(value, str) or "\n" in value or "\0" in value or len(value) > 400:
        return []
    return [file_named(value) or value] if value else []


def _outside(root: Path, name: str) -> bool:
    """Tell whether a name is that of a file outside a bench's folder."""
    try:
        file = (root / name).resolve()
        return file.is_file() and not file.is_relative_to(root.resolve())
    except (OSError, RuntimeError):
        return False


def _code_files(workspace: Workspace, names: Sequence[str]) -> Iterator[tuple[str, bytes]]:
    for built in workspace.compile(names):
        if built.status != COMPILED:
            continue
        for unit in built.all_units:
            made = workspace.store.artefact(unit.artefact)
            stem = f"{built.snippet.name}/{built.build.name}/{Path(unit.source).stem or 'whole'}"
            safe = "".join(c if c.isalnum() or c in "._-/@+" else "_" for c in stem)
            for kind, file in (("s", made.text), ("o", made.object)):
                if file.is_file():
                    yield f"code/{safe}.{kind}", file.read_bytes()


def import_export(path: Path, folder: Path) -> Imported:
    """Lay an export out as a bench in a new folder; nothing in it is compiled or run.

    Raises RequestError for what is no export, and where the folder is not empty.
    """
    files = _known_export(path)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise RequestError(f"{folder}: is there and not empty; name a new folder.")
    if f"bench/{BENCH_FILE}" not in files:
        raise RequestError(f"{path}: holds no {BENCH_FILE}, so it is no export of a bench.")
    page = _page(path, files)
    answers, unreadable = _answers(files)
    _lay_out(folder, files)
    results = Store(str(folder.resolve())).results
    numbers = [keep_imported(results, one, path.name) for one in answers]
    results.add(PAGE_KIND, "page", pack(page._replace(origin=path.name)))
    return Imported(str(folder), page.title, tuple(numbers), tuple(unreadable))


def answers_in(path: Path) -> tuple[list[KeptAnswer], list[str]]:
    """Return the answers that an export holds, and what cannot be read of it, with the reason.

    Nothing is laid out. Raises RequestError for what is no export.
    """
    return _answers(_known_export(path))


def _known_export(path: Path) -> dict[str, bytes]:
    files = read_export(path)
    about = _plain(path, files, ABOUT)
    if not isinstance(about, dict) or about.get("hot_anvil_export") != FORMAT:
        raise RequestError(f"{path}: is no export that this version of Hot Anvil knows.")
    return files


def _plain(path: Path, files: Mapping[str, bytes], name: str) -> Any:
    try:
        return json.loads(files[name])
    except KeyError:
        raise RequestError(f"{path}: is no export of Hot Anvil: it has no {name}.") from None
    except (ValueError, RecursionError):
        raise RequestError(f"{path}: {name} in it is damaged.") from None


def _page(path: Path, files: Mapping[str, bytes]) -> Page:
    try:
        page = unpack(_plain(path, files, PAGE))
    except ValueError as error:
        raise RequestError(f"{path}: the page in it cannot be read: {error}.") from None
    if not isinstance(page, Page):
        raise RequestError(f"{path}: the page in it is none of ours.")
    return page


def _answers(files: Mapping[str, bytes]) -> tuple[list[KeptAnswer], list[str]]:
    """Return the answers of an export, and those that cannot be read, with the reason."""
    out, unreadable = [], []
    names = [n for n in files if re.fullmatch(r"answers/\d{1,15}-\w+\.json", n)]
    for name in sorted(names, key=lambda name: int(name[8:].partition("-")[0])):
        try:
            plain = json.loads(files[name])
            answer = answer_of(plain.pop("answer"))
            told = [str(plain[key]) for key in ("machine", "machine_text", "version", "origin")]
            at, number = float(plain["at"]), int(plain["number"])
            comparable = str(plain.get("comparable", ""))
            out.append(
                KeptAnswer(number, at, told[0], told[1], told[2], told[3], answer, comparable)
            )
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
            unreadable.append(f"{name}: {error}")
    return out, unreadable


def _lay_out(folder: Path, files: Mapping[str, bytes]) -> None:
    """Write the bench, and beside it the code and the page as they came."""
    try:
        for name, data in files.items():
            part, _, rest = name.partition("/")
            if part == "bench":
                if rest.split("/")[0] == ".hot-anvil":
                    continue  # what the store keeps comes from nobody else
                place = folder / rest
            elif part == "code" or name == "page.html":
                place = folder / "imported" / name
            else:
                continue
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)
    except OSError as error:
        raise cannot(f"{folder}: cannot be written", error) from None


def imported_page(results: Results) -> Page | None:
    """Return the page that came with an import, None for a bench of one's own."""
    rows = results.of_kind(PAGE_KIND)
    if not rows:
        return None
    try:
        page = unpack(rows[-1][3])
    except ValueError as error:
        raise RequestError(f"{results.path}: the imported page cannot be read: {error}.") from None
    return page if isinstance(page, Page) else None
