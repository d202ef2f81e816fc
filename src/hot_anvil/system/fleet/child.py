"""A process of its own for requests: what it starts ends with it, whatever becomes of others.

Standard input brings requests, each a length, then the version of who asks in a line and what is
asked; it stays open: that it ends tells that who asked is gone. Standard output takes BEGUN when
the turn has come, then a length and the answer.
"""

import os
import signal
import struct
import sys
import threading
import time
import traceback
from collections.abc import Callable
from queue import Empty, SimpleQueue
from typing import IO, Any

from hot_anvil.errors import AnvilError, machine_trouble
from hot_anvil.system.fleet.requests import Failed, from_bytes, to_bytes
from hot_anvil.system.fleet.this_machine import our_version, turn

BEGUN = b"B"
LENGTH = struct.Struct("<Q")
_PATIENCE = 1.0  # seconds that what was begun has to end after an interrupt
_IDLE = 30.0  # seconds without a request after which it ends


def answer_requests(serve: Callable[[Any], Any]) -> None:
    """Read requests, have ``serve`` do them, and write the answers, until none comes for long."""
    answers = os.fdopen(os.dup(1), "wb", buffering=0)
    os.dup2(2, 1)  # what is printed by mistake is no answer
    for number in (signal.SIGINT, signal.SIGTERM):  # a worker in the background ignores the first
        signal.signal(number, signal.default_int_handler)
    requests: SimpleQueue[bytes] = SimpleQueue()
    threading.Thread(target=_read, args=(sys.stdin.buffer, requests), daemon=True).start()
    try:
        while True:
            _answer_one(serve, requests.get(timeout=_IDLE), answers)
    except (Empty, KeyboardInterrupt):
        return


def _answer_one(serve: Callable[[Any], Any], data: bytes, answers: IO[bytes]) -> None:
    version, _, rest = data.partition(b"\n")
    if version.decode() != our_version():  # another was put in its place since the fleet was joined
        why = f"there is Hot Anvil {our_version()} now, and {version.decode()} asks"
        answer = to_bytes(Failed(why))
        answers.write(BEGUN)
    else:
        request = from_bytes(rest)
        with turn(alone=getattr(request, "alone", False)):
            answers.write(BEGUN)
            answer = to_bytes(_answer(serve, request))
    _write(answers, LENGTH.pack(len(answer)) + answer)


def _answer(serve: Callable[[Any], Any], request: Any) -> Any:
    try:
        return serve(request)
    except AnvilError as error:
        return Failed(str(error))
    except Exception as error:
        trouble = machine_trouble(error)
        if trouble:
            return Failed(str(trouble))
        traceback.print_exception(error)  # for whoever looks into what the worker said
        return Failed(f"{type(error).__name__}: {error}", ours=True)


def _write(stream: IO[bytes], data: bytes) -> None:
    rest = memoryview(data)
    while rest:
        rest = rest[stream.write(rest) :]


def _read(stream: IO[bytes], requests: "SimpleQueue[bytes]") -> None:
    """Hand on requests; end this process, and what it started, when there can be no more."""
    while len(head := stream.read(LENGTH.size)) == LENGTH.size:
        (length,) = LENGTH.unpack(head)
        data = stream.read(length)
        if len(data) < length:
            break
        requests.put(data)
    os.kill(os.getpid(), signal.SIGINT)
    time.sleep(_PATIENCE)
    os._exit(1)
