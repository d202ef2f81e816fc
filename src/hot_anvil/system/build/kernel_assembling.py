"""The assembler of the real machine, asked what kernels take there."""

import sys
from collections.abc import Mapping
from pathlib import Path
from shutil import which

from hot_anvil.core.kernels.assembler import Resources, read_report
from hot_anvil.core.kernels.machine_code import MachineInstruction, read_machine_code
from hot_anvil.system.build.worker_objects import first_complaint
from hot_anvil.system.process.running import run
from hot_anvil.system.store.files import digest
from hot_anvil.system.store.store import Store

_ASSEMBLER = "ptxas"
_DISASSEMBLER = "nvdisasm"
_NO_ASSEMBLER = f"{_ASSEMBLER} is not here (it comes with nvcc)"


def resources_of(text: Path, target: str, store: Store) -> tuple[Mapping[str, Resources], str]:
    """Return what each kernel of a PTX text takes on ``target``, or why that is not known.

    The assembler is asked once for each text.
    """
    path = which(_ASSEMBLER)
    if not path:
        return {}, _NO_ASSEMBLER
    name = digest("kernel report", *_identity(path), target, text.read_bytes())
    if not store.holds(name):
        with store.workplace() as work:
            argv = [path, "-v", "--gpu-name", target, "-o", "/dev/null", str(text)]
            said = run(argv, work)
            if said.failed:
                return {}, first_complaint(said.stderr) or said.ending
            (work / "report.txt").write_text(said.stderr + said.stdout)
            store.keep(work, name)
    return read_report((store.artefact(name).folder / "report.txt").read_text()), ""


def machine_code_of(
    text: Path, target: str, store: Store
) -> tuple[Mapping[str, tuple[MachineInstruction, ...]], str]:
    """Return the real machine's code of each kernel of a PTX text, or why it is not known."""
    assembler, disassembler = which(_ASSEMBLER), _disassembler()
    if not assembler:
        return {}, _NO_ASSEMBLER
    if not disassembler:
        return {}, f"{_DISASSEMBLER} is not here (pip install nvidia-cuda-nvdisasm)"
    name = digest("kernel code", *_identity(assembler), *_identity(disassembler), target,
                  text.read_bytes())  # fmt: skip
    if not store.holds(name):
        with store.workplace() as work:
            made = [assembler, "-lineinfo", "--gpu-name", target, "-o", "code.cubin", str(text)]
            for argv in (made, [disassembler, "-g", "-c", "code.cubin"]):
                said = run(argv, work)
                if said.failed:
                    return {}, first_complaint(said.stderr) or said.ending
            (work / "code.txt").write_text(said.stdout)
            store.keep(work, name)
    listed = (store.artefact(name).folder / "code.txt").read_text()
    return read_machine_code(listed, store.root), ""


def _disassembler() -> str | None:
    """Return the disassembler on PATH, or the one of a package beside this tool."""
    inside = Path(sys.prefix).glob(f"lib/python3*/site-packages/nvidia/*/bin/{_DISASSEMBLER}")
    return which(_DISASSEMBLER) or next((str(path) for path in inside), None)


def _identity(path: str) -> tuple[str, str]:
    return path, str(Path(path).stat().st_mtime_ns)
