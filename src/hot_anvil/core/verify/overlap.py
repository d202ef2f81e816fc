"""Buffers that the bench lays over one another where the entry's types forbid it."""

from collections.abc import Iterator

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import Type
from hot_anvil.core.config.records import LANGUAGES
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.verify.crash_report import Place
from hot_anvil.core.verify.sanitizer_reports import Undefined

BY = "the bench's aliases and the declaration"
_FORTRAN = tuple(ending for ending, language in LANGUAGES.items() if language == "fortran")
_ALIASED_BY_TYPE = (".c", ".cc", ".cpp", ".cxx", ".C")  # languages in which the type decides


def overlaps(
    signature: Signature, inputs: InputSet, only_certain: bool = False
) -> Iterator[Undefined]:
    """Give what the C standard forbids: 6.7.3.1 (restrict) and 6.5 paragraph 7 (types).

    Overlapping types are forbidden only if the memory is reached as both, and
    Fortran's arguments only if one is written to (Fortran 2018, 15.5.2.13):
    neither is certain.
    """
    fortran = signature.file.endswith(_FORTRAN)
    if not fortran and not signature.file.endswith(_ALIASED_BY_TYPE):
        return
    for argument, parameter in zip(inputs.arguments, signature.parameters, strict=True):
        if argument.kind != "alias":
            continue
        other = signature.parameters[argument.target]
        if not (parameter.writable or other.writable):
            continue
        message = "" if fortran else _restricted(parameter, other)
        if fortran and not only_certain:
            message = (
                f"the arguments '{parameter.name}' and '{other.name}' overlap: Fortran takes it "
                "that neither is written to"
            )
        elif not message and not only_certain:
            message = _of_two_types(parameter, other)
        if message:
            place = Place(signature.file, signature.line)
            edge = inputs.spec.edge
            yield Undefined(signature.name, inputs.label, edge, message, place, BY)


def _restricted(a: Parameter, b: Parameter) -> str:
    for one, other in ((a, b), (b, a)):
        if one.type.restrict:
            return f"'{one.name}' is restrict, but overlaps '{other.name}', and one is written to"
    return ""


def _of_two_types(a: Parameter, b: Parameter) -> str:
    left, right = a.type.to, b.type.to
    if left and right and not _may_alias(left, right):
        return (
            f"'{a.name}' ({left.name}) overlaps '{b.name}' ({right.name}): what is written as one "
            "type must not be read as another"
        )
    return ""


def _may_alias(a: Type, b: Type) -> bool:
    if not (a.scalar and b.scalar) or 1 in (a.size, b.size):
        return True  # structs would need a look inside; characters may alias all
    whole = ("int", "uint")
    return a.size == b.size and (a.kind == b.kind or (a.kind in whole and b.kind in whole))
