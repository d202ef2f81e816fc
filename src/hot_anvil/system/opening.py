"""Open a bench or a bare source file."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from hot_anvil.core.bench import Bench, language_of, read_bench
from hot_anvil.core.errors import RequestError
from hot_anvil.system.files import parse_toml, read_source

BENCH_FILE = "anvil.toml"


def open_bench_file(path: Path) -> Bench:
    """Read the bench in a folder, or the bench file itself."""
    file = path / BENCH_FILE if path.is_dir() else path
    try:
        text = file.read_text()
        tables = parse_toml(text)
    except OSError as error:
        raise RequestError(
            f"{file}: cannot be read ({error.strerror}). A bench is a folder with an "
            f"{BENCH_FILE}; 'hot-anvil start --example NAME' lays one out."
        ) from None
    except UnicodeDecodeError:
        raise RequestError(f"{file}: is not UTF-8 text, as TOML must be.") from None
    except ValueError as error:
        raise RequestError(f"{file}: is not valid TOML: {error}.") from None
    return read_bench(tables, text, str(file), str(file.parent.resolve()))


def open_source_file(
    path: Path,
    builds: Sequence[str],
    entries: Sequence[str] = (),
    inputs: Sequence[str] = (),
    sweep: Sequence[str] = (),
) -> Bench:
    """Return a bench of one bare source file.

    ``builds`` are texts such as "gcc -O2"; ``inputs`` and ``sweep`` are lines
    of TOML as a bench has them. Without builds, every toolchain with the
    default flag sets makes the grid.
    """
    if not path.is_file():
        raise RequestError(f"{path}: there is no such file.")
    language_of(path.name)
    snippet: dict[str, Any] = {"sources": [path.name], "name": path.stem}
    if entries:
        snippet["entries"] = list(entries)
    snippet["inputs"] = _toml_lines(inputs, "--inputs")
    snippet["sweep"] = _toml_lines(sweep, "--sweep")
    bench = read_bench({"snippet": [snippet]}, "", str(path), str(path.parent.resolve()))
    return bench._replace(explicit=tuple(builds))


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


def _toml_lines(lines: Sequence[str], option: str) -> dict[str, Any]:
    if not lines:
        return {}
    import tomllib

    table: dict[str, Any] = {}
    for line in lines:
        try:
            table.update(tomllib.loads(line))
        except tomllib.TOMLDecodeError as error:
            raise RequestError(
                f"{option} '{line}': is not valid TOML ({error}). Write it as in a bench, such as "
                "--inputs 'low = -200' or --sweep 'n = [64, 4096]'."
            ) from None
    return table
