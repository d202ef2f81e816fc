"""Join a scheduler: find it, see that both sides are alike, and ask each worker what it is."""

import logging
import warnings
from collections.abc import Callable, Mapping
from importlib import import_module
from pathlib import Path
from typing import Any

from hot_anvil.core.fleet.machines import COMPILE, MEASURE
from hot_anvil.errors import MissingError, RequestError
from hot_anvil.system.fleet.this_machine import our_version


def connected(address: str, seconds: float) -> Any:
    """Return the engine's client of a scheduler, named by its address or by a scheduler file.

    Raises RequestError for what names none, MissingError where none answers, or one of another
    version.
    """
    try:
        client_of: Any = import_module("distributed").Client
    except ImportError:
        raise MissingError(
            "a fleet needs Dask's 'distributed': pip install 'hot-anvil[fleet]'."
        ) from None
    for name in ("tornado", "asyncio", *logging.root.manager.loggerDict):
        if name.startswith(("distributed", "tornado", "asyncio")):
            logging.getLogger(name).setLevel(logging.CRITICAL)  # what matters is said by us
    from_file = Path(address).is_file()
    if not from_file and "://" not in address and ":" not in address:
        raise RequestError(
            f"{address}: is neither a scheduler's address, such as tcp://10.0.0.1:8786, nor a "
            "scheduler file.",
            about="on",
        )
    if address.startswith("tls://") and not _has_certificates():
        raise MissingError(
            f"{address}: TLS needs certificates, and Dask's own configuration names none here "
            "(distributed.comm.tls, or DASK_DISTRIBUTED__COMM__TLS__CA_FILE and the like; "
            "docs/fleet.md)."
        )
    where = {"scheduler_file": address} if from_file else {"address": address}
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            client = client_of(**where, timeout=seconds, set_as_default=False)
            versions = client.get_versions()
    except Exception as error:
        raise MissingError(
            f"{address}: no scheduler answers there ({_first_line(error)}). Start one with 'dask "
            "scheduler'; with TLS, Dask's own configuration names the certificates on both sides "
            "(docs/fleet.md)."
        ) from None
    ours, theirs = (_engine_version(versions[side]) for side in ("client", "scheduler"))
    if ours != theirs:
        client.close(timeout=2)
        raise MissingError(
            f"{address}: the scheduler runs distributed {theirs}, this is {ours}: install the same "
            "on both sides."
        )
    return client


def _has_certificates() -> bool:
    get: Any = import_module("dask.config").get
    return bool(get("distributed.comm.tls.ca-file", None))


def _first_line(error: Exception) -> str:
    text = str(error).strip().split("\n")[0]
    return text[:200] or type(error).__name__


def _engine_version(told: Mapping[str, Any]) -> str:
    return str(told["packages"].get("distributed"))


def tell_by_value(version: str) -> Callable[[], Any]:
    """Return what a worker runs to tell of itself; it travels by value, whatever is there."""

    def tell() -> Any:
        try:
            from hot_anvil.system.fleet.telling import tell_all
        except ImportError as error:
            from importlib import metadata

            try:
                return f"it has Hot Anvil {metadata.version('hot-anvil')}, this is {version}"
            except metadata.PackageNotFoundError:
                return f"Hot Anvil is not installed there ({error})"
        return tell_all()

    return tell


def why_unusable(answer: Any, info: Mapping[str, Any]) -> str:
    """Return why a worker cannot be used, "" where it can."""
    if isinstance(answer, str):
        return answer
    if not isinstance(answer, dict):
        return f"it does not tell what it is ({_first_line(Exception(answer))})"
    if answer["version"] != our_version():
        return f"it has Hot Anvil {answer['version']}, this is {our_version()}"
    offers = info.get("resources", {})
    if not any(offers.get(resource, 0) >= 1 for resource in (MEASURE, COMPILE)):
        return "it offers neither 'measure' nor 'compile' (--resources \"measure=1 compile=1\")"
    if MEASURE in offers and info.get("nthreads", 1) > 1:
        return "it would measure beside other work: start it with --nthreads 1"
    return ""
