"""Kernels of a snippet on the simulated device: with whose values, in what shape, and what came."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from hot_anvil.core.arch.ptx import ISA
from hot_anvil.core.build.records import COMPILED, Built
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.calling.prototypes import kernel_signatures
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.config.expressions import evaluate
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.inputs.input_sets import InputSet, make_input_set, whole_numbers
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.verify.crash_report import NOWHERE, Place
from hot_anvil.errors import RequestError
from hot_anvil.system.bench.opening import read_sources
from hot_anvil.system.check.checking import read_files
from hot_anvil.workspace import Workspace

if TYPE_CHECKING:
    from hot_anvil.core.arch.ptx.device.device import Launch, Launched, Shape
    from hot_anvil.core.arch.ptx.device.memory import Fault
    from hot_anvil.core.arch.ptx.device.schedule import Device, Scheduler
    from hot_anvil.core.arch.ptx.device.watching import Watch
    from hot_anvil.core.binary.signatures import Signature

DEVICE = "simulated device"
_MOST_THREADS = 1024  # of a block
_MOST_BLOCKS = 1 << 20


class Made(NamedTuple):
    """One kernel of one build, ready to be launched, or why it cannot be."""

    built: Built
    signature: "Signature"
    launch: "Launch | None"
    why: str
    instructions: tuple[Instruction, ...]
    registers: tuple[tuple[str, int], ...] = ()


class Came(NamedTuple):
    """What came of one launch."""

    output: Output | None  # None where it ended by a fault, or did not end
    launched: "Launched"
    shape: "Shape"


def is_kernels(snippet: Snippet) -> bool:
    """Tell whether a snippet is of kernels."""
    return "cuda" in snippet.languages


def kernel_builds(workspace: Workspace, snippet: Snippet) -> tuple[Built, ...]:
    """Return the builds of a snippet that hold kernels."""
    every = workspace.compile([snippet.name])
    return tuple(b for b in every if workspace.toolchain(b.build).isa == ISA)


def signatures_of(workspace: Workspace, snippet: Snippet) -> "tuple[Signature, ...]":
    """Return how the kernels of a snippet that are its entries are launched."""
    cuda = [source for source in snippet.sources if source.endswith(".cu")]
    texts = read_sources(workspace.bench.root, cuda)
    known = {s.name: s for file, lines in texts.items() for s in _declared(file, lines)}
    where = f"{workspace.bench.file}: snippet {snippet.name}"
    wanted = [entry for entry in snippet.entries if entry in known] or list(known)
    if not known:
        raise RequestError(f"{where}: no kernel is declared in {listed(cuda)}.")
    unknown = [e for e in snippet.entries if e not in known and e != snippet.reference]
    if unknown and len(snippet.sources) == len(cuda):
        hint = did_you_mean(unknown[0], known)
        raise RequestError(f"{where}: no kernel is called {unknown[0]}.{hint} There are: "
                           f"{listed(known)}.")  # fmt: skip
    for name in wanted:
        for parameter in known[name].parameters:
            kind = parameter.type.to or parameter.type
            if kind.kind == "other":
                raise RequestError(
                    f"{known[name].file}:{known[name].line}: {name}: parameter {parameter.name} is "
                    f"of type '{kind.name}', and values can be given to numbers and buffers of "
                    "numbers."
                )
    return tuple(known[name] for name in wanted)


def _declared(file: str, lines: Sequence[str]) -> "tuple[Signature, ...]":
    return kernel_signatures("\n".join(lines), file)


def make_kernel(workspace: Workspace, built: Built, signature: "Signature") -> Made:
    """Understand one kernel of a build."""
    from hot_anvil.core.arch.ptx.device.device import Launch
    from hot_anvil.core.arch.ptx.device.lanes import UnknownInstructionError
    from hot_anvil.core.arch.ptx.module import read_module

    if built.status != COMPILED:
        return Made(built, signature, None, built.why, ())
    for unit in built.units:
        text = workspace.store.artefact(unit.artefact).text.read_text()
        module = read_module(text, workspace.bench.root)
        mangled = f"_Z{len(signature.name)}{signature.name}"
        names = [n for n, k in module.kernels.items() if k.is_entry]
        found = next((n for n in names if n == signature.name or n.startswith(mangled)), "")
        if not found:
            continue
        kernel = module.kernels[found]
        sizes = [p.type.size for p in signature.parameters]
        if [p.size for p in kernel.parameters] != sizes:
            why = "its parameters in the code are not those that its declaration says"
            return Made(built, signature, None, why, kernel.instructions)
        try:
            return Made(built, signature, Launch(module, found), "", kernel.instructions)
        except UnknownInstructionError as error:
            return Made(built, signature, None, str(error), kernel.instructions)
    return Made(built, signature, None, f"it has no kernel {signature.name}", ())


def values_for(
    workspace: Workspace, snippet: Snippet, signature: "Signature", spec: InputSpec
) -> InputSet:
    """Return the values of one launch."""
    files = read_files(workspace.bench, snippet)
    return make_input_set(workspace.bench, snippet, signature, spec, files)


def shape_for(
    workspace: Workspace, snippet: Snippet, signature: "Signature", inputs: InputSet
) -> "Shape":
    """Return in what shape a kernel is launched with some values."""
    from hot_anvil.core.arch.ptx.device.device import Shape

    where = f"{workspace.bench.file}: snippet {snippet.name}: launch"
    if snippet.launch is None:
        raise RequestError(
            f"{workspace.bench.file}: snippet {snippet.name}: kernels need a shape to be launched "
            'in, such as launch = { grid = "(n + 127) // 128", block = 128 }.'
        )
    known = {**inputs.spec.point, **whole_numbers(inputs, signature)}

    def three(words: Sequence[str], key: str, most: int) -> tuple[int, int, int]:
        numbers = [int(evaluate(word, known, f"{where}.{key}")) for word in words]
        if min(numbers) < 1 or _product(numbers) > most:
            raise RequestError(f"{where}.{key}: {' x '.join(map(str, numbers))} is not from 1 to "
                               f"{most}.")  # fmt: skip
        x, y, z = (*numbers, 1, 1)[:3]
        return x, y, z

    grid = three(snippet.launch.grid, "grid", _MOST_BLOCKS)
    block = three(snippet.launch.block, "block", _MOST_THREADS)
    shared = int(evaluate(snippet.launch.shared, known, f"{where}.shared"))
    return Shape(grid, block, shared)


def _product(numbers: Sequence[int]) -> int:
    made = 1
    for number in numbers:
        made *= number
    return made


def launch(
    made: Made,
    inputs: InputSet,
    shape: "Shape",
    device: "Device | None" = None,
    scheduler: "Scheduler" = "spread",
    watch: "Watch | None" = None,
) -> Came:
    """Launch a kernel once, in memory of its own; on a device as small as the default one.

    ``watch`` records what some threads do.
    """
    from hot_anvil.core.arch.ptx.device.memory import Memory
    from hot_anvil.core.arch.ptx.device.schedule import Device

    assert made.launch
    device = device or Device()
    memory = Memory(device.processors)
    at: list[int] = []
    given = []
    for argument in inputs.arguments:
        address = 0
        if argument.kind == "buffer":
            address = memory.allocate(argument.name, argument.data, argument.writable)
        elif argument.kind == "alias":
            address = at[argument.target] + argument.offset
        at.append(address)
        given.append(argument.data if argument.kind == "scalar" else address.to_bytes(8, "little"))
    launched = made.launch.run(memory, shape, given, device, scheduler, watch=watch)
    output = None
    if not launched.fault and not launched.hung and not launched.unknown:
        buffers = [
            (a.name, memory.contents(a.name)) for a in inputs.arguments
            if a.kind == "buffer" and a.writable
        ]  # fmt: skip
        output = Output(b"", tuple(buffers))
    return Came(output, launched, shape)


def place_of(made: Made, number: int) -> Place:
    """Return the source line of an instruction, NOWHERE where that is not known."""
    if not 0 <= number < len(made.instructions):
        return NOWHERE
    item = made.instructions[number]
    return Place(item.file, item.line) if item.line else NOWHERE


def fault_text(fault: "Fault", made: Made) -> str:
    """Return what went wrong in a launch, in words."""
    who = f"thread {fault.thread} of block {fault.block}"
    verb = "writes" if fault.stores else "reads"
    if fault.kind == "trap":
        return f"{who} traps"
    if fault.kind == "race":
        place = place_of(made, fault.other).text
        there = f" at {place}" if place else ""
        return (
            f"{who} {verb} byte {fault.offset} of shared memory, which thread "
            f"{fault.other_thread} touches{there} with no barrier between"
        )
    if fault.kind == "null":
        return f"{who} {verb} through a null pointer"
    if fault.kind == "window":
        return f"a warp of {who} {verb} memory of several kinds at once, which is not simulated"
    if fault.kind == "misaligned":
        return f"{who} {verb} {fault.size} bytes at a place that is no multiple of that"
    if fault.kind == "read-only":
        return f"{who} writes to {fault.buffer}, which it promises not to write"
    element = _element(fault, made)
    return f"{who} {verb} {element}"


def _element(fault: "Fault", made: Made) -> str:
    types = {p.name: p.type.to for p in made.signature.parameters}
    kind = types.get(fault.buffer)
    if not fault.buffer:
        return f"address {fault.address:#x}, where there is no buffer"
    if kind is None or not kind.size:
        return f"byte {fault.offset} of {fault.buffer}, which lies outside it"
    return f"{fault.buffer}[{fault.offset // kind.size}], outside the buffer"
