"""What tells whether two candidates are the same code, whatever they were made of."""

from hot_anvil.core.binary.elf import data_sections, loaded_digest
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.verify.results import Checked
from hot_anvil.system.store.files import digest
from hot_anvil.workspace import Workspace


def codes_of(workspace: Workspace, checked: Checked) -> dict[str, str]:
    """Return for each candidate that compiled a text that is equal for equal code.

    It is that of all its entry reaches and of the data beside it, whatever
    source they came from; of a program and of code made while linking, of all.
    """
    symbols = {signature.name: signature.symbol for signature in checked.signatures}
    out: dict[str, str] = {}
    for built in workspace.compile([checked.snippet.name]):
        own = [v for v in checked.verdicts if v.build == built.build.name]
        if built.status != COMPILED:
            continue
        files = [workspace.store.artefact(unit.artefact).object for unit in built.units]
        if built.whole:
            files = [workspace.store.artefact(built.whole.artefact).image]
        contents = [file.read_bytes() for file in files]
        if built.whole or checked.snippet.program:
            every = digest(*map(loaded_digest, contents))
            out |= {v.candidate: every for v in own}
            continue
        data = [part for content in contents for part in data_sections(content)]
        for verdict in own:
            instructions = workspace.instructions_of(built, symbols[verdict.entry])
            out[verdict.candidate] = digest(*instructions, *data)
    return out
