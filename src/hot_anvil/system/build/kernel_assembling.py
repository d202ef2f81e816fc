"""The assembler of the real machine, asked what kernels take there."""

from collections.abc import Mapping
from pathlib import Path
from shutil import which

from hot_anvil.core.kernels.assembler import Resources, read_report
from hot_anvil.system.build.worker_objects import first_complaint
from hot_anvil.system.process.running import run
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store

_ASSEMBLER = "ptxas"


def resources_of(text: Path, target: str, store: Store) -> tuple[Mapping[str, Resources], str]:
    """Return what each kernel of a PTX text takes on ``target``, or why that is not known.

    The assembler is asked once for each text.
    """
    path = which(_ASSEMBLER)
    if not path:
        return {}, f"{_ASSEMBLER} is not here (it comes with nvcc)"
    state = Path(path).stat()
    name = digest("kernel report", path, str(state.st_mtime_ns), target, text.read_bytes())
    if not store.holds(name):
        with store.workplace() as work:
            argv = [path, "-v", "--gpu-name", target, "-o", "/dev/null", str(text)]
            said = run(argv, work)
            if said.failed:
                return {}, first_complaint(said.stderr) or said.ending
            (work / "report.txt").write_text(said.stderr + said.stdout)
            store.keep(work, name)
    return read_report((store.artefact(name).folder / "report.txt").read_text()), ""
