"""Answers that are kept: whole, by number, to be shown again exactly as they were."""

import base64
import json
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hot_anvil._version import __version__
from hot_anvil.core.names import listed
from hot_anvil.core.results.answers import KEPT, Answer, KeptAnswer, KeptHead, to_keep
from hot_anvil.core.results.packing import pack, unpack
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import BENCH_FILE
from hot_anvil.system.measure.machine import machine_identity
from hot_anvil.system.store.results import Results
from hot_anvil.system.store.store import Store
from hot_anvil.workspace import Workspace

if TYPE_CHECKING:
    from hot_anvil.core.fleet.machines import MachineClass

KIND = "answer"
LARGEST = 1 << 28  # bytes of one answer unpacked: more is no answer of ours


def keep_answer(workspace: Workspace, answer: Answer, own: "MachineClass | None" = None) -> int:
    """Keep an answer, of this machine or of a class; return its number.

    What cannot be kept is said, and shown all the same; the number is 0 then.
    """
    from hot_anvil.core.fleet.results import measured_of
    from hot_anvil.system.fleet.this_machine import this_machine
    from hot_anvil.usecases.code_identities import codes_of

    machine, text = (own.name, own.text) if own else machine_identity()
    comparable = (own.machines[0] if own else this_machine(compilers=False)).comparable
    head = {
        "command": answer.command, "snippets": answer.snippets, "machine": machine,
        "machine_text": text, "version": __version__, "origin": "", "notes": answer.notes,
        "comparable": comparable,
    }  # fmt: skip
    made: dict[tuple[str, str], str] = {}
    codes: dict[tuple[str, str], str] = {}
    for name in answer.snippets:
        made |= identities_of(workspace, name)
    for result in answer.results:
        measured = measured_of(result)
        if measured and measured.overall:
            snippet = measured.checked.snippet.name
            own_codes = codes_of(workspace, measured.checked)
            codes |= {(snippet, name): code for name, code in own_codes.items()}
    answer = to_keep(answer)._replace(artefacts=made, codes=codes)
    return workspace.store.results.add(KIND, answer.command, head | {"packed": packed(answer)})


def identities_of(workspace: Workspace, snippet: str) -> dict[tuple[str, str], str]:
    """Return for each build of a snippet a text that is equal for the same artefacts."""
    return {
        (snippet, built.build.name): " ".join(unit.artefact for unit in built.all_units)
        for built in workspace.compile([snippet])
    }


def keep_imported(results: Results, kept: KeptAnswer, file: str) -> int:
    """Keep an answer that came in a file, as of then and there; return its number here."""
    head = {
        "command": kept.answer.command, "snippets": kept.answer.snippets, "machine": kept.machine,
        "machine_text": kept.machine_text, "version": kept.version, "origin": file,
        "comparable": kept.comparable,
    }  # fmt: skip
    document = head | {"packed": packed(kept.answer)}
    return results.add(KIND, kept.answer.command, document, at=kept.at)


def packed(answer: Answer) -> str:
    """Return an answer as one text."""
    plain = json.dumps(pack(answer), separators=(",", ":"))
    return base64.b64encode(zlib.compress(plain.encode(), 6)).decode()


def unpacked(text: str) -> Answer:
    """Return the answer of such a text; raises ValueError for any other."""
    reader = zlib.decompressobj()
    try:
        plain = reader.decompress(base64.b64decode(text, validate=True), LARGEST)
    except zlib.error as error:
        raise ValueError(str(error)) from None
    if not reader.eof:
        raise ValueError("it is cut off, or far too large")
    return answer_of(json.loads(plain))


def answer_of(plain: Any) -> Answer:
    """Return the answer that was packed as plain data; raises ValueError for any other."""
    answer = unpack(plain)
    if not isinstance(answer, Answer) or answer.command not in KEPT:
        raise ValueError("it is no answer")
    try:
        hash(answer.snippets)
    except (AttributeError, TypeError):
        raise ValueError("its results are none of ours") from None
    return answer


def results_at(path: Path) -> Results:
    """Return the results of a bench or a bare source, without a look at compilers."""
    if not path.exists():
        raise RequestError(f"{path}: there is no such file or folder.")
    if path.is_dir() and not (path / BENCH_FILE).exists():
        raise RequestError(f"{path}: is no bench: it has no {BENCH_FILE}.")
    bare = path.is_file() and path.suffix != ".toml"
    root = path if path.is_dir() else path.parent
    return Store(str(root.resolve()), bare=bare).results


def kept_heads(results: Results, snippets: Sequence[str] = ()) -> list[KeptHead]:
    """Return what was kept, the oldest first; ``snippets``: only what is about one of them."""
    heads = [
        KeptHead(number, at, subject, tuple(row["snippets"]), row["machine"], row["origin"])
        for number, at, subject, row in results.of_kind(KIND, ("packed",))
    ]
    return [one for one in heads if not snippets or set(one.snippets) & set(snippets)]


def notes_said(results: Results) -> tuple[str, ...]:
    """Return the notes on this machine that answers kept here have told."""
    machine = machine_identity()[0]
    rows = results.of_kind(KIND, ("packed",))
    own = (row.get("notes", ()) for _, _, _, row in rows if row["machine"] == machine)
    return tuple(dict.fromkeys(note for notes in own for note in notes))


def kept_answer(results: Results, number: int = 0) -> KeptAnswer:
    """Return the answer of this number, the last for 0; raises RequestError where none is."""
    heads = kept_heads(results)
    if not heads:
        raise RequestError(
            f"{results.path.parent}: nothing is kept here yet. 'check', 'measure', 'pick' and "
            "'hotspots' keep what they answer."
        )
    wanted = number or heads[-1].number
    if wanted not in (one.number for one in heads):
        known = [f"{one.number} ({one.command})" for one in reversed(heads)]
        raise RequestError(f"{number}: there is no such answer. Kept are: {listed(known)}.")
    return _read(results, wanted)


def _read(results: Results, number: int) -> KeptAnswer:
    at, row = results.numbered(number)
    try:
        answer = unpacked(row["packed"])
    except ValueError as error:
        raise RequestError(
            f"{results.path}: answer {number} cannot be read: {error}. It was kept by Hot Anvil "
            f"{row.get('version', 'of another version')}, this is {__version__}."
        ) from None
    told = [str(row.get(name, "")) for name in ("machine", "machine_text", "version", "origin")]
    comparable = str(row.get("comparable", ""))
    return KeptAnswer(number, at, told[0], told[1], told[2], told[3], answer, comparable)


def last_answers(results: Results, snippet: str) -> dict[str, KeptAnswer]:
    """Return the last answer of each command about a snippet; what cannot be read is left out."""
    newest: dict[str, int] = {}
    for head in kept_heads(results, [snippet]):
        newest[head.command] = head.number
    out = {}
    for command, number in newest.items():
        try:
            out[command] = _read(results, number)
        except RequestError:
            continue
    return out
