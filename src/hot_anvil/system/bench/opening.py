"""Open a bench or a bare source file."""

import os
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

from hot_anvil.core.config.comment import settings_in_comment
from hot_anvil.core.config.reading import read_bench
from hot_anvil.core.config.records import Bench, language_of
from hot_anvil.core.inputs.fills import file_named
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.settings import with_project_flags, with_settings
from hot_anvil.system.bench.trust import must_be_trusted
from hot_anvil.system.store.files import parse_toml, read_source

BENCH_FILE = "anvil.toml"


def open_bench_file(path: Path, trust: bool = False) -> Bench:
    """Read the bench in a folder, or the bench file itself.

    Raises UntrustedError for one that has programs run which it names, unless it is trusted.
    """
    file = path / BENCH_FILE if path.is_dir() else path
    try:
        text = file.read_text()
        tables = parse_toml(text)
    except OSError as error:
        raise RequestError(
            f"{file}: cannot be read ({error.strerror}). A bench is a folder with an "
            f"{BENCH_FILE}; a first one can be started from sources or an example."
        ) from None
    except UnicodeDecodeError:
        raise RequestError(f"{file}: is not UTF-8 text, as TOML must be.") from None
    except ValueError as error:
        raise RequestError(f"{file}: is not valid TOML: {error}.") from None
    except RecursionError:
        raise RequestError(f"{file}: tables and lists lie too deep within each other.") from None
    bench = read_bench(tables, text, str(file), str(file.parent.resolve()))
    known = with_project_flags(bench)
    must_be_trusted(known, trust)
    return with_settings(known)


def open_source_file(
    path: Path,
    builds: Sequence[str],
    entries: Sequence[str] = (),
    inputs: Sequence[str] = (),
    sweep: Sequence[str] = (),
    not_promised: Sequence[str] = (),
    tolerance: Sequence[str] = (),
    trust: bool = False,
) -> Bench:
    """Return a bench of one bare source file.

    ``builds`` are texts such as "gcc -O2", folders in them as seen from here; ``inputs``,
    ``sweep``, ``not_promised`` and ``tolerance`` are lines of TOML as a bench has them. They go
    before what the source says in its own first comment. Without builds, every toolchain with
    the default flag sets makes the grid.
    """
    if not path.is_file():
        raise RequestError(f"{path}: there is no such file.")
    language_of(path.name)
    source = read_source(path)
    text = settings_in_comment(source) or ""
    tables = _tables(text, path)
    snippet = _only_snippet(tables, path)
    snippet.setdefault("sources", [path.name])
    snippet.setdefault("name", path.stem)
    if entries:
        snippet["entries"] = list(entries)
    if not entries and not inputs and "program" not in snippet and "entries" not in snippet:
        snippet["program"] = defines_main(source, language_of(path.name))
    told = (("inputs", inputs), ("sweep", sweep), ("not_promised", not_promised),
            ("tolerance", tolerance))  # fmt: skip
    for key, lines in told:
        given = _toml_lines(lines, key)
        if given:
            snippet[key] = {**snippet.get(key, {}), **given}
    tables["snippet"] = [snippet]
    bench = read_bench(tables, text, str(path), str(path.parent.resolve()))
    must_be_trusted(bench, trust)
    bench = bench._replace(granted=tuple(_files_in(_toml_lines(inputs, "inputs"))))
    return with_settings(bench._replace(explicit=tuple(_as_seen_here(b, path) for b in builds)))


_FOLDER = re.compile(r"(?<!\S)(-I|-isystem |-iquote |-include )\s*([^\s'\"/-][^\s'\"]*)")


def _as_seen_here(build: str, path: Path) -> str:
    """Return a build with the folders that it names relative to the source's own."""

    def moved(found: re.Match[str]) -> str:
        here = Path(found[2]).resolve()
        if (path.parent / found[2]).exists() or not here.exists():
            return found[0]
        return f"{found[1]}{os.path.relpath(here, path.parent.resolve())}"

    return _FOLDER.sub(moved, build)


_MAIN = {
    "c": r"^[\w\s*]*\bmain\s*\([^;{]*\)\s*\{",
    "c++": r"^[\w\s*]*\bmain\s*\([^;{]*\)\s*(?:->\s*\w+\s*)?\{",
    "rust": r"^\s*fn\s+main\s*\(",
    "fortran": r"^\s*program\s+\w+\s*$",
}


def defines_main(text: str, language: str) -> bool:
    """Tell whether a source is a whole program, as far as its text shows."""
    text = re.sub(r"/\*.*?\*/|//[^\n]*|\"(?:\\.|[^\"\\\n])*\"", " ", text, flags=re.DOTALL)
    pattern = _MAIN.get(language, r"(?!)")
    return bool(re.search(pattern, text, re.MULTILINE | re.IGNORECASE * (language == "fortran")))


def _tables(text: str, path: Path) -> dict[str, Any]:
    try:
        return dict(parse_toml(text)) if text.strip() else {}
    except ValueError as error:
        raise RequestError(
            f"{path}: the settings in its first comment, after 'hot-anvil:', are not valid TOML: "
            f"{error}."
        ) from None


def _only_snippet(tables: Mapping[str, Any], path: Path) -> dict[str, Any]:
    """Return the one snippet of a source's comment: a table, or an array of one."""
    snippet = tables.get("snippet", {})
    if isinstance(snippet, list) and len(snippet) == 1:
        snippet = snippet[0]
    if not isinstance(snippet, dict) or not all(
        isinstance(snippet.get(key, {}), dict) for key in ("inputs", "sweep")
    ):
        raise RequestError(
            f"{path}: the settings in its first comment: 'snippet' must be one table."
        )
    return dict(snippet)


def read_sources(root: str, files: Sequence[str]) -> Mapping[str, Sequence[str]]:
    """Return the lines of source files; files that cannot be read are left out."""
    out = {}
    for file in files:
        try:
            # Not splitlines: compilers count only line feeds.
            out[file] = read_source(Path(root, file)).replace("\r\n", "\n").split("\n")
        except OSError:
            continue
    return out


def _files_in(value: Any) -> Iterator[str]:
    """Give the files that fills name, anywhere in a value."""
    if isinstance(value, Mapping):
        for inner in value.values():
            yield from _files_in(inner)
    elif isinstance(value, str) and file_named(value):
        yield file_named(value)


def _toml_lines(lines: Sequence[str], about: str) -> dict[str, Any]:
    if not lines:
        return {}
    import tomllib

    table: dict[str, Any] = {}
    for line in lines:
        try:
            table.update(tomllib.loads(line))
        except tomllib.TOMLDecodeError as error:
            raise RequestError(
                f"'{line}': is not valid TOML ({error}). Write it as in a bench, such as "
                "'low = -200' or 'n = [64, 4096]'.",
                about=about,
            ) from None
    return table
