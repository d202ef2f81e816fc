"""A process of its own for each request: what it starts ends with it, whatever becomes of others.

Standard input brings a length, then the version of who asks in a line and the request; it stays
open: that it ends tells that who asked is gone. Standard output takes BEGUN when the turn has come,
then the answer.
"""

import os
import signal
import struct
import sys
import threading
import time
import traceback
from collections.abc import Callable
from typing import IO, Any

from hot_anvil.errors import AnvilError, machine_trouble
from hot_anvil.system.fleet.requests import (
    Failed,
    Measure,
    MeasurePrograms,
    from_bytes,
    to_bytes,
)
from hot_anvil.system.fleet.this_machine import our_version, turn

BEGUN = b"B"
LENGTH = struct.Struct("<Q")
_PATIENCE = 1.0  # seconds that what was begun has to end after an interrupt


def answer_one(serve: Callable[[Any], Any]) -> None:
    """Read one request, have ``serve`` do it, and write the answer."""
    answers = os.fdopen(os.dup(1), "wb", buffering=0)
    os.dup2(2, 1)  # what is printed by mistake is no answer
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    (length,) = LENGTH.unpack(_exactly(sys.stdin.buffer, LENGTH.size))
    version, _, data = _exactly(sys.stdin.buffer, length).partition(b"\n")
    if version.decode() != our_version():  # another was put in its place since the fleet was joined
        why = f"there is Hot Anvil {our_version()} now, and {version.decode()} asks"
        answers.write(BEGUN + to_bytes(Failed(why)))
        return
    request = from_bytes(data)
    threading.Thread(target=_end_with_asker, daemon=True).start()
    alone = isinstance(request, Measure | MeasurePrograms)
    with turn(alone):
        answers.write(BEGUN)
        answer = to_bytes(_answer(serve, request))
    answers.write(answer)
    answers.close()


def _answer(serve: Callable[[Any], Any], request: Any) -> Any:
    try:
        return serve(request)
    except AnvilError as error:
        return Failed(str(error))
    except Exception as error:
        trouble = machine_trouble(error)
        if trouble:
            return Failed(str(trouble))
        return Failed("".join(traceback.format_exception(error)), ours=True)


def _exactly(stream: IO[bytes], length: int) -> bytes:
    data = stream.read(length)
    if len(data) < length:
        raise SystemExit(1)
    return data


def _end_with_asker() -> None:
    """End this process, and what it started, when standard input ends."""
    while os.read(0, 1 << 16):
        pass
    os.kill(os.getpid(), signal.SIGINT)
    time.sleep(_PATIENCE)
    os._exit(1)
