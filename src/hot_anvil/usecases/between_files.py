"""Do the files of a snippet agree on what they share? Seen when all are looked at together."""

import re
from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.build.builds import Build
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.code.records import Function
from hot_anvil.core.config.records import Snippet, language_of
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.toolchain.messages import read_diagnostics
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.core.verify.crash_report import Place
from hot_anvil.core.verify.results import Checked, Disagreement
from hot_anvil.core.verify.sanitizer_reports import Undefined
from hot_anvil.core.verify.undefined import with_accepted, with_undefined
from hot_anvil.system.build.jobs import load_code
from hot_anvil.system.process.running import run
from hot_anvil.system.store.files import digest
from hot_anvil.workspace import Workspace

_LANGUAGES = ("c", "c++", "fortran")  # the later ones link what the earlier ones make
_TOLD = re.compile(r"\[-W(?:lto-type-mismatch|odr)\]$")
_OWN = re.compile(r"type of .__")  # made by the compiler, of a type that is told anyway
_NAMED = re.compile(r"type of .(\w+). does not match")
_LOCAL_LABEL = re.compile(r"\.L\w+")


def disagreements(
    workspace: Workspace, snippet: Snippet, builds: Sequence[Built]
) -> tuple[Disagreement, ...]:
    """Return what the sources of a snippet say differently of one name, most certain first."""
    sources = [s for s in snippet.sources if language_of(s) in _LANGUAGES]
    if len(sources) < 2:
        return ()
    units = [unit.artefact for built in builds for unit in built.units]
    return (*_mismatches(workspace, snippet, sources, units), *_bodies(workspace, snippet, sources))


def with_disagreements(
    workspace: Workspace, checked: Checked, found: Sequence[Disagreement]
) -> Checked:
    """Return what was checked, undefined where an entry reaches what two files say differently."""
    builds = workspace.compile([checked.snippet.name])
    own = [b for b in builds if b.status == COMPILED]
    undefined = [
        Undefined(signature.name, "any input", "", one.message, one.place, "the linker")
        for signature in checked.signatures
        for one in found
        if own and one.name in _reaches(workspace, own[0], signature.symbol)
    ]
    flags = {built.build.name: built.build.flags for built in builds}
    verdicts = with_undefined(checked.verdicts, undefined, flags)
    return checked._replace(
        disagreements=tuple(found),
        verdicts=with_accepted(verdicts, checked.snippet.accept),
        undefined=(*checked.undefined, *undefined),
    )


def _reaches(workspace: Workspace, built: Built, symbol: str) -> set[str]:
    return {function.owner for function in workspace.reached(built, symbol)}


def _mismatches(
    workspace: Workspace, snippet: Snippet, sources: Sequence[str], units: Sequence[str]
) -> list[Disagreement]:
    """Return what gcc's linking of intermediate code warns of: types, on both sides."""
    chain = _joining(workspace, {language_of(source) for source in sources})
    if chain is None:
        return []
    flags = _what_is_compiled(workspace)
    root = workspace.bench.root
    identities = (driver.identity for driver in chain.drivers.values())
    own_flags = str(sorted(snippet.source_flags.items()))
    key = digest("between files", *identities, *flags, *sources, *units, own_flags)

    def link(work: Path) -> list[Diagnostic]:
        objects = []
        for number, source in enumerate(sources):
            driver = chain.drivers[language_of(source)].path
            made = str(work / f"{number}.o")
            own = snippet.source_flags.get(source, ())
            argv = [driver, "-g1", "-O1", "-flto", *flags, *own, "-c", source, "-o", made]
            if run(argv, root).failed:
                return []
            objects.append(made)
        last = max((language_of(source) for source in sources), key=_LANGUAGES.index)
        argv = [chain.drivers[last].path, "-O1", "-flto", "-r", "-flinker-output=nolto-rel"]
        said = run([*argv, *objects, "-o", str(work / "all.o")], root)
        return list(read_diagnostics(said.stderr, "text"))

    rows = workspace.store.derive(key, link)
    return _told([Diagnostic(*row) for row in rows])


def _what_is_compiled(workspace: Workspace) -> list[str]:
    """Return the reference's flags that choose the code, not how it is translated."""
    return [f for f in workspace.plan.reference.flags if f.startswith(("-D", "-I", "-std"))]


def _told(diagnostics: Sequence[Diagnostic]) -> list[Disagreement]:
    """Return the warnings about two files, each with the other side's place."""
    out: list[Disagreement] = []
    for at, one in enumerate(diagnostics):
        if one.severity != "warning" or not _TOLD.search(one.message) or _OWN.search(one.message):
            continue
        notes = []
        for note in diagnostics[at + 1 :]:
            if note.severity != "note":
                break
            notes.append(note)
        other = next((n for n in notes if n.file and n.file != one.file), None)
        detail = next((n.message for n in notes if "should match" in n.message), "")
        message = _TOLD.sub("", one.message).strip() + (f": {detail}" if detail else "")
        there = Place(other.file, other.line) if other else Place("", 0)
        named = _NAMED.search(one.message)
        name = named[1] if named else ""
        out.append(Disagreement(message, Place(one.file, one.line), there, name))
    return out


def _joining(workspace: Workspace, languages: set[str]) -> Toolchain | None:
    """Return a toolchain that links all these languages and compares types meanwhile."""
    able = [
        chain
        for chain in workspace.found.toolchains
        if chain.family == "gcc" and chain.can["run"] and languages <= set(chain.drivers)
    ]
    own = [chain for chain in able if chain.name == workspace.plan.reference.toolchain]
    return next(iter([*own, *reversed(able)]), None)


def _bodies(workspace: Workspace, snippet: Snippet, sources: Sequence[str]) -> list[Disagreement]:
    """Return functions that two C++ files both define, with another body: only one is linked."""
    if [language_of(source) for source in sources].count("c++") < 2:
        return []
    chain = workspace.toolchain(workspace.plan.reference)
    if chain.family not in ("gcc", "clang"):
        return []
    # At -O0 one body always makes one code.
    plain = Build(chain.name, "", (*_what_is_compiled(workspace), "-O0"))
    (built,) = workspace.compile_apart([(snippet, plain)])
    known: dict[str, tuple[str, Function]] = {}
    out = []
    for unit in built.units if built.status == COMPILED else ():
        code = load_code(unit, workspace.store)
        for function in code.functions:
            source, first = known.setdefault(function.name, (unit.source, function))
            if source != unit.source and _text(first) != _text(function):
                title = code.title(function.name)
                message = f"two files define {title} differently, and only one of them is linked"
                places = Place(*function.begins), Place(*first.begins)
                out.append(Disagreement(message, *places, function.name))
    return out


def _text(function: Function) -> list[str]:
    return [_LOCAL_LABEL.sub("", instruction.text) for instruction in function.instructions]
