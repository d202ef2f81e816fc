"""What this machine is, as it tells others, and one turn at a time on it."""

import fcntl
import hashlib
import os
import platform
import re
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path

from hot_anvil._version import __version__
from hot_anvil.core.fleet.machines import Compiler, Machine
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.measure.machine import machine_identity, processor_model
from hot_anvil.system.store.files import digest, digest_file, read_json, user_cache, write_json
from hot_anvil.system.toolchain.finding import find_toolchains, programs_of

# For tests, in place of what this machine is: NAME[:PROCESSOR[:FEATURES THAT IT LACKS]].
PRETEND = "HOT_ANVIL_PRETEND_MACHINE"
_PACKAGE = Path(__file__).parent.parent.parent


def this_machine(compilers: bool = True) -> Machine:
    """Return what this machine is and has; without its ``compilers`` nothing is asked of them."""
    info = _read("/proc/cpuinfo")
    flags = re.search(r"^(?:flags|Features|isa)\s*:\s*(.+)$", info, re.M)
    name, processor, lacks = (os.environ.get(PRETEND, "") + "::").split(":")[:3]
    identity = machine_identity()[0]
    return Machine(
        name or platform.node() or "machine",
        digest(identity, name)[:6] if name else identity,
        processor or processor_model(),
        platform.machine(),
        frozenset(flags[1].split() if flags else ()) - frozenset(lacks.split()),
        os.cpu_count() or 1,
        os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"),
        _system(),
        os.getloadavg()[0],
        compilers_here() if compilers else (),
        bool(name),
    )


def _system() -> str:
    release = dict(re.findall(r'^(\w+)="?(.*?)"?$', _read("/etc/os-release"), re.M))
    named = release.get("PRETTY_NAME", platform.system())
    kernel = ".".join(platform.release().split(".")[:2])
    library = " ".join(platform.libc_ver())
    return f"{named}, {library}, Linux {kernel}".replace(" ,", "")


def compilers_here() -> tuple[Compiler, ...]:
    """Return this machine's toolchains with what each is made of."""
    found = find_toolchains().toolchains
    own = (chain for chain in found if not chain.flags)  # not one compiler for many targets
    return tuple(Compiler(c.name, c.version, content_of(c)) for c in own)


def content_of(chain: Toolchain) -> str:
    """Return a text that is equal for the very same compiler, on whichever machine it lies.

    A digest of its programs' bytes; what it is configured to do by files of the person is part of
    a toolchain's identity here, not of this.
    """
    paths = sorted({path for d in chain.drivers.values() for path in programs_of(d.path)})
    return digest(chain.family, chain.version, chain.target, *map(_file_digest, paths))[:16]


def _file_digest(path: str) -> str:
    """Return the digest of a program, hashed again only when the file changes."""
    try:
        state = os.stat(path)  # noqa: PTH116
    except OSError:
        return "gone"
    key = f"{state.st_ino}.{state.st_size}.{state.st_mtime_ns}.{state.st_ctime_ns}"
    kept = user_cache() / "contents" / f"{digest(path, key)}.json"
    known = read_json(kept)
    if isinstance(known, str):
        return known
    made = digest_file(path) or "gone"
    with suppress(Exception):  # a cache that cannot be written only costs time
        write_json(kept, made)
    return made


@cache
def our_version() -> str:
    """Return what must be equal on both sides: the version, and a digest of the package's code."""
    state = hashlib.blake2b(digest_size=6)
    for file in sorted(_PACKAGE.rglob("*")):
        if file.suffix in (".py", ".c", ".h", ".toml", ".S") and "__pycache__" not in file.parts:
            state.update(file.relative_to(_PACKAGE).as_posix().encode())
            state.update(file.read_bytes())
    return f"{__version__} ({state.hexdigest()})"


@contextmanager
def turn(alone: bool) -> Iterator[None]:
    """Wait for a turn on this machine: alone, as measuring takes it, or beside others like it.

    One lock for all workers of this machine, whoever started them; it goes with its process.
    """
    path = Path(tempfile.gettempdir()) / f"hot-anvil-turn-{machine_identity()[0]}"
    flags = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC
    try:  # another person's workers take turns too, and may only read it
        lock = os.open(path, flags)
    except FileNotFoundError:
        lock = os.open(path, flags | os.O_CREAT, 0o644)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX if alone else fcntl.LOCK_SH)
        yield
    finally:
        os.close(lock)


def _read(path: str) -> str:
    try:
        return Path(path).read_text(errors="replace")
    except OSError:
        return ""
