"""A fleet on one machine, for tests: each worker in a network of its own where that is allowed."""

import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Mapping
from contextlib import suppress
from itertools import count
from pathlib import Path

from hot_anvil.system.fleet.this_machine import PRETEND

DASK = Path(sys.executable).parent / "dask"
OFFERS = "measure=1 compile=1"
_READY_SECONDS = 60.0
_MADE = count()  # fleets of this process: each has networks of its own


def _run(*words: str) -> bool:
    return subprocess.run(words, capture_output=True, check=False).returncode == 0


def networks_allowed() -> bool:
    """Tell whether this test may make networks of its own."""
    if os.geteuid() or not shutil.which("ip"):
        return False
    name = f"quay{os.getpid()}t"
    made = _run("ip", "netns", "add", name)
    _run("ip", "netns", "del", name)
    return made


class MadeFleet:
    """A scheduler and workers; ``close`` ends all of it, workers first."""

    def __init__(
        self, folder: Path, networks: bool | None = None, env: Mapping[str, str] = {}
    ) -> None:
        self.folder = folder
        self._env = env
        self._protocol = "tls" if any("TLS" in name for name in env) else "tcp"
        self.networks = networks_allowed() if networks is None else networks
        number = os.getpid() * 8 + next(_MADE)
        self._key = f"q{number % 100000}"
        self._net = f"10.{100 + number % 100}.{number // 100 % 250}"
        self._processes: dict[str, subprocess.Popen[bytes]] = {}
        self._count = 0
        self._scheduler_host = "127.0.0.1"
        if self.networks:
            _run("ip", "link", "add", f"{self._key}br", "type", "bridge")
            _run("ip", "addr", "add", f"{self._net}.1/24", "dev", f"{self._key}br")
            _run("ip", "link", "set", f"{self._key}br", "up")
            self._scheduler_host = self._new_network("s", 2)
        self.port = self._free_port()
        self.address = f"{self._protocol}://{self._scheduler_host}:{self.port}"
        self._start("scheduler", "s", {}, (
            "scheduler", "--protocol", self._protocol, "--host", self._scheduler_host,
            "--port", str(self.port),
            "--no-dashboard", "--dashboard-address", "127.0.0.1:0",
        ))  # fmt: skip

    def _free_port(self) -> int:
        if self.networks:
            return 8786
        with socket.socket() as one:
            one.bind(("127.0.0.1", 0))
            return int(one.getsockname()[1])

    def _new_network(self, name: str, number: int) -> str:
        """Make a network with one address on the bridge; return the address."""
        space, outer, inner = f"{self._key}{name}", f"{self._key}{name}o", f"{self._key}{name}i"
        _run("ip", "netns", "add", space)
        _run("ip", "link", "add", outer, "type", "veth", "peer", "name", inner)
        _run("ip", "link", "set", outer, "master", f"{self._key}br")
        _run("ip", "link", "set", outer, "up")
        _run("ip", "link", "set", inner, "netns", space)
        address = f"{self._net}.{number}"
        for words in (
            ("addr", "add", f"{address}/24", "dev", inner),
            ("link", "set", inner, "up"),
            ("link", "set", "lo", "up"),
        ):
            _run("ip", "-n", space, *words)
        return address

    def _start(self, name: str, space: str, env: Mapping[str, str], words: tuple[str, ...]) -> None:
        before = ("ip", "netns", "exec", f"{self._key}{space}") if self.networks else ()
        with (self.folder / f"{name}.log").open("wb") as log:
            self._processes[name] = subprocess.Popen(
                [*before, str(DASK), *words],
                env={**os.environ, **self._env, **env},
                stdin=subprocess.DEVNULL,
                stdout=log,
                stderr=subprocess.STDOUT,
                cwd=self.folder,
                start_new_session=True,
            )

    def worker(
        self, name: str, pretends: str = "", offers: str = OFFERS, env: Mapping[str, str] = {}
    ) -> None:
        """Start a worker, which pretends to be a machine of this name, of another processor."""
        self._count += 1
        host = self._new_network(name, 9 + self._count) if self.networks else "127.0.0.1"
        own = {
            PRETEND: f"{name}:{pretends}" if pretends else name,
            "XDG_CACHE_HOME": str(self.folder / f"cache-{name}"),
            **env,
        }
        self._start(name, name, own, (
            "worker", self.address, "--protocol", self._protocol, "--no-nanny",
            "--no-dashboard", "--dashboard-address", "127.0.0.1:0",
            "--nthreads", "1", "--name", name, "--resources", offers,
            "--memory-limit", "0", "--host", host, "--local-directory",
            str(self.folder / f"dir-{name}"), "--death-timeout", "60",
        ))  # fmt: skip

    def wait(self, workers: int) -> None:
        """Wait until so many workers are there."""
        end = time.monotonic() + _READY_SECONDS
        while self.log("scheduler").count("Register worker") < workers:
            assert time.monotonic() < end, self.log("scheduler")
            time.sleep(0.1)

    def log(self, name: str) -> str:
        """Return what a process wrote."""
        return (self.folder / f"{name}.log").read_text(errors="replace")

    def kill(self, name: str) -> None:
        """End a worker with -9, as a power cut does; what it started is left alone."""
        process = self._processes.pop(name)
        process.kill()
        process.wait()

    def signal(self, name: str, number: int) -> None:
        """Send a signal to a worker."""
        self._processes[name].send_signal(number)

    def link(self, name: str, up: bool) -> None:
        """Plug a worker's network in, or pull it."""
        _run("ip", "link", "set", f"{self._key}{name}o", "up" if up else "down")

    def close(self) -> None:
        """End everything: workers first, or they wait for the scheduler."""
        for name in reversed(list(self._processes)):
            process = self._processes[name]
            process.send_signal(signal.SIGCONT)
            process.terminate()
            with suppress(subprocess.TimeoutExpired):
                process.wait(5)
            with suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        if self.networks:
            spaces = subprocess.run(["ip", "netns"], capture_output=True, text=True, check=False)
            for line in spaces.stdout.splitlines():
                if line.startswith(self._key):
                    _run("ip", "netns", "del", line.split()[0])
            _run("ip", "link", "del", f"{self._key}br")
        time.sleep(0.1)
