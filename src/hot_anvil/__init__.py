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
        Kept,
        Limits,
        Options,
        Watch,
        compare_sources,
        explain,
        find_machine,
        import_export,
        open_bench,
        open_kept,
        open_source,
        save_export,
        start_bench,
    )

__all__ = [
    "Anvil",
    "Kept",
    "Limits",
    "Options",
    "Watch",
    "__version__",
    "compare_sources",
    "explain",
    "find_machine",
    "import_export",
    "open_bench",
    "open_kept",
    "open_source",
    "save_export",
    "start_bench",
]


def __getattr__(name: str) -> object:
    if name in __all__:
        from hot_anvil import api

        value: object = getattr(api, name)
        return value
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
