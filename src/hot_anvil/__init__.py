"""Hot Anvil: pick the fastest correct build of a small piece of native code.

The functions listed in ``__all__`` are the Python API; they live in
``hot_anvil.api`` and are loaded on first use, so that importing the package
costs next to nothing.
"""

__version__ = "0.1.0"

TYPE_CHECKING = False  # typing's own costs start-up time; type checkers know this name
if TYPE_CHECKING:
    from hot_anvil.api import How, Workshop, open_bench, open_source

__all__ = ["How", "Workshop", "__version__", "open_bench", "open_source"]


def __getattr__(name: str) -> object:
    if name in ("How", "Workshop", "open_bench", "open_source"):
        from hot_anvil import api

        value: object = getattr(api, name)
        return value
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
