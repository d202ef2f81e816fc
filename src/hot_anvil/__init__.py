"""Hot Anvil: pick the fastest correct build of a small piece of native code.

The functions listed in ``__all__`` are the Python API; they live in
``hot_anvil.api`` and are loaded on first use, so that importing the package
costs next to nothing.
"""

from hot_anvil._version import __version__

TYPE_CHECKING = False  # typing's own costs start-up time; type checkers know this name
if TYPE_CHECKING:
    from hot_anvil.api import (
        Anvil,
        Limits,
        Options,
        compare_sources,
        explain,
        find_machine,
        open_bench,
        open_source,
        start_bench,
    )

__all__ = [
    "Anvil",
    "Limits",
    "Options",
    "__version__",
    "compare_sources",
    "explain",
    "find_machine",
    "open_bench",
    "open_source",
    "start_bench",
]


def __getattr__(name: str) -> object:
    if name in __all__:
        from hot_anvil import api

        value: object = getattr(api, name)
        return value
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
