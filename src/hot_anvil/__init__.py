"""Hot Anvil: pick the fastest correct build of a small piece of native code.

The functions listed in ``__all__`` are the Python API; they live in
``hot_anvil.api`` and are loaded on first use, so that importing the package
costs next to nothing.
"""

from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from hot_anvil.api import Session, open_bench, open_source

__all__ = ["Session", "__version__", "open_bench", "open_source"]


def __getattr__(name: str) -> Any:
    if name in ("Session", "open_bench", "open_source"):
        from hot_anvil import api

        return getattr(api, name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
