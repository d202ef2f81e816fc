"""Laying out a first bench beside sources."""

import json
from collections.abc import Mapping, Sequence
from pathlib import Path

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.calling.driver_draft import draft_snippet, driver_draft
from hot_anvil.core.calling.prototypes import kernel_signatures
from hot_anvil.core.config.records import Snippet, language_of
from hot_anvil.core.inputs.template import count_of, template
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import BENCH_FILE, open_source_file
from hot_anvil.system.process.progress import Progress
from hot_anvil.system.store.files import read_source, write_whole
from hot_anvil.usecases.entries import functions_of
from hot_anvil.usecases.kernels import is_kernels
from hot_anvil.workspace import make_workspace

_KERNEL_GRID = (
    "[flags]",
    'plain = { nvcc = "-arch=sm_80", clang = "-O1 --cuda-gpu-arch=sm_80" }',
    'fast  = { nvcc = "-arch=sm_80 -use_fast_math", clang = "-O3 --cuda-gpu-arch=sm_80" }',
    "",
    "[grid]",
    'toolchains = ["nvcc", "clang-16@nvptx64"]',
)


def start_from_sources(sources: Sequence[str], progress: Progress) -> tuple[Path, tuple[str, ...]]:
    """Write a bench file beside the sources, with entries and a first guess of values."""
    folder = Path(sources[0]).parent
    file = folder / BENCH_FILE
    if file.exists():
        raise RequestError(f"{file}: is there already; it was left as it is.")
    names = tuple(_inside(source, folder) for source in sources)
    bench = open_source_file(Path(sources[0]), ())
    snippet = bench.snippets[0]._replace(sources=names)
    workspace = make_workspace(bench._replace(snippets=(snippet,)), True, progress=progress)
    if is_kernels(snippet):
        texts = {name: read_source(folder / name) for name in names if name.endswith(".cu")}
        found = [s for name, text in texts.items() for s in kernel_signatures(text, name)]
        if not any(signature.callable_with_values for signature in found):
            raise RequestError(f"{sources[0]}: no kernel here takes only numbers and buffers of "
                               "numbers.")  # fmt: skip
        write_whole(file, _bench_text(snippet, found, {}))
        return folder, (BENCH_FILE, *names)
    signatures = functions_of(workspace, snippet.name)
    if snippet.program or any(signature.name == "main" for signature in signatures):
        write_whole(file, "\n".join([*_head(snippet), *_program(snippet)]))
        return folder, (BENCH_FILE, *names)
    drafts = _drafts(folder, names, [s for s in signatures if not s.callable_with_values])
    if not drafts and not any(signature.callable_with_values for signature in signatures):
        raise RequestError(
            f"{sources[0]}: no function here can be called with values that this version can "
            "make (numbers, structs of them, and pointers to either); a driver does the rest."
        )
    write_whole(file, _bench_text(snippet, signatures, drafts))
    return folder, (BENCH_FILE, *names, *drafts.values())


def _drafts(
    folder: Path, names: Sequence[str], signatures: Sequence[Signature]
) -> dict[Signature, str]:
    """Write a driver to fill in for each C++ function that takes objects; none over another."""
    out = {}
    for signature in signatures:
        source = next((n for n in names if Path(n).name == Path(signature.file).name), "")
        if not source or language_of(source) != "c++":
            continue
        driver = f"{signature.name}_driver.cpp"
        if not signature.name.isidentifier() or (folder / driver).exists():
            continue
        text = driver_draft(signature, source, read_source(folder / source))
        write_whole(folder / driver, text)
        out[signature] = driver
    return out


def _program(snippet: Snippet) -> list[str]:
    return [
        "",
        "[[snippet]]",
        f"name    = {_quoted(snippet.name)}",
        f"sources = [{', '.join(_quoted(name) for name in snippet.sources)}]",
        "program = true",
        "",
        "# What it is run with; what it puts out is compared with the reference build's.",
        "[[snippet.run]]",
        "arguments = []",
        'stdin     = ""',
        "",
    ]


def _head(snippet: Snippet) -> list[str]:
    if is_kernels(snippet):
        return [f"title = {_quoted(snippet.name)}", "", *_KERNEL_GRID]
    return [
        f"title = {_quoted(snippet.name)}",
        "",
        "[flags]",
        'plain = "-O0"',
        'lean  = "-Os"',
        'fast  = "-O3"',
        'wide  = "-O3 -march=native"',
        "",
        "[grid]",
        'flags = ["plain", "lean", "fast", "wide"]',
    ]


def _bench_text(
    snippet: Snippet, signatures: Sequence[Signature], drafts: Mapping[Signature, str]
) -> str:
    lines = [
        *_head(snippet),
        "",
        "# One snippet for each function. To compare functions that must compute the same,",
        "# name them as the entries of one snippet. The values are a first guess: mend them so",
        "# that they are what the code meets in use.",
    ]
    for signature in signatures:
        if not signature.callable_with_values:
            continue
        lines += [
            "",
            "[[snippet]]",
            f"name    = {_quoted(signature.name)}",
            f"sources = [{', '.join(_quoted(name) for name in snippet.sources)}]",
            f"entries = [{_quoted(signature.name)}]",
            *([_launch(signature)] if is_kernels(snippet) else []),
            f"# {signature.text}",
            template(snippet, [signature]),
        ]
    for signature, driver in drafts.items():
        lines += draft_snippet(signature, snippet.sources, driver)
    own = {Path(source).name for source in snippet.sources}
    left = [s for s in signatures if not s.callable_with_values and s not in drafts]
    others = [f"#   {s.text}" for s in left if Path(s.file).name in own]
    if others:
        lines += ["", "# Left out, for this version cannot make all their values:", *others]
    lines.append("")
    return "\n".join(lines)


def _launch(signature: Signature) -> str:
    count = count_of(signature)
    grid = f'"({count} + 127) // 128"' if count else "1"
    return f"launch  = {{ grid = {grid}, block = 128 }}"


def _inside(source: str, folder: Path) -> str:
    try:
        return str(Path(source).resolve().relative_to(folder.resolve()))
    except ValueError:
        raise RequestError(f"{source}: is not inside {folder}, the folder of the bench.") from None


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)  # a JSON text is a TOML text
