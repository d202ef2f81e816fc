"""Readers of optimisation records, by the names that families of toolchains give them."""

from collections.abc import Callable, Iterator, Mapping

from hot_anvil.core.remarks import gnu, llvm, rust
from hot_anvil.core.remarks.records import Remark

READERS: Mapping[str, Callable[[str], Iterator[Remark]]] = {
    "gnu": gnu.read_records,
    "llvm": llvm.read_records,
    "rust": rust.read_records,
}
