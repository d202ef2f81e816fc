"""PTX, as nvcc and clang write it."""

import re

from hot_anvil.core.arch.records import Isa

ISA = Isa(
    name="ptx",
    comments=("//",),
    separator=";",
    register=re.compile(r"%[a-zA-Z_]+\d+"),
    family=lambda register: (register, register.rstrip("0123456789")),
    same={"bra.uni": "bra"},
    fillers=re.compile(r"(?!)"),
    returns=re.compile(r"ret(?:\.uni)?$|exit$"),
    calls=re.compile(r"call(?:\.uni)?$"),
    jumps=re.compile(r"bra(?:\.uni)?$"),
)
