"""Code under study changes nothing outside its folder, reaches nobody and leaves nothing."""

import os
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from pathlib import Path

import pytest

from conftest import COMMAND, document, hot_anvil, lacking, write_bench
from hot_anvil.system.build.worker_objects import NATIVE

HOSTILE = r"""#include <arpa/inet.h>
#include <fcntl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <unistd.h>
static int makes(const char *path) {
    int fd = open(path, O_CREAT | O_WRONLY, 0600); close(fd); return fd >= 0; }
static int calls(int port) {
    struct sockaddr_in to = { .sin_family = AF_INET, .sin_port = htons((uint16_t)port) };
    int fd = socket(AF_INET, SOCK_STREAM, 0), ok; inet_pton(AF_INET, "127.0.0.1", &to.sin_addr);
    ok = fd >= 0 && !connect(fd, (struct sockaddr *)&to, sizeof to); close(fd); return ok; }
int32_t reaches(int32_t port, int32_t pid) {
    char home[512]; snprintf(home, sizeof home, "%s/owned", getenv("HOME"));
    makes(home); makes("../../owned"); /* what looks made may be a copy of its own */
    return makes("own") | calls(port) << 1 | !kill(pid, 0) << 2; }
"""
HELD, ALL = 1, 7


def hostile(folder: Path, returns: int, port: int) -> Path:
    bench = write_bench(
        folder / "bench",
        '[flags]\na = "-O1"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nsources = ["gauge.c"]\n'
        f'entries = ["reaches"]\ninputs = {{ port = {port}, pid = {os.getpid()} }}\n'
        f"[[snippet.case]]\nexpected = {{ returns = {returns} }}\n",
        gauge=HOSTILE,
    )
    (folder / "home").mkdir()
    return bench


@pytest.fixture
def port() -> int:
    """A port of this machine at which somebody listens."""
    server = socket.create_server(("127.0.0.1", 0))
    number: int = server.getsockname()[1]

    def listen() -> None:
        while True:
            try:
                server.accept()[0].close()
            except OSError:
                return

    threading.Thread(target=listen, daemon=True).start()
    return number


def owned(folder: Path) -> list[Path]:
    return sorted(folder.rglob("owned"))


def test_code_reaches_its_own_folder_and_nothing_else(tmp_path: Path, port: int) -> None:
    bench = hostile(tmp_path, HELD, port)
    told = hot_anvil("check", bench, HOME=str(tmp_path / "home"))
    if "be held in full" in told.stderr:
        lacking("a system with user namespaces")
    assert told.returncode == 0 and not owned(tmp_path), told.stdout


def test_code_that_may_go_free_reaches_all_of_it(tmp_path: Path, port: int) -> None:
    bench = hostile(tmp_path, ALL, port)
    told = hot_anvil("check", bench, "--free", HOME=str(tmp_path / "home"))
    assert told.returncode == 0 and len(owned(tmp_path)) == 2, told.stdout


def test_where_namespaces_are_forbidden_landlock_holds_what_it_can_and_that_is_said(
    port: int,
) -> None:
    outside = Path(tempfile.mkdtemp(dir="/var/tmp"))  # /tmp stays open then
    bench = hostile(outside, HELD, port)
    script = 'echo 0 > /proc/sys/user/max_user_namespaces && exec "$0" check "$1"'
    told = subprocess.run(
        ["unshare", "-Ur", "sh", "-c", script, COMMAND, bench],
        env={**os.environ, "HOME": str(outside / "home")}, capture_output=True, text=True,
    )  # fmt: skip
    reached = owned(outside)
    shutil.rmtree(outside)
    if "could write your files" in told.stderr or "unshare failed" in told.stderr:
        lacking("a kernel with Landlock")
    assert "could write to /tmp, reach the network by other ways than TCP" in told.stderr
    before_612 = "returned 5, expected 1" in told.stdout
    assert (told.returncode == 0 or before_612) and not reached, told.stdout


PROGRAM = r"""#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>
static void *level(void *at) { *(int *)at = 7; return 0; }
int main(void) { int seen = 0; pthread_t thread; FILE *kept = tmpfile();
    pthread_create(&thread, 0, level, &seen); pthread_join(thread, 0);
    int shared = shm_open("/quay", 66, 0600); shm_unlink("/quay");
    if (!fork()) { setsid(); close(0); close(1); close(2);
        execl("/bin/sleep", "sleep", "SECONDS", NULL); }
    FILE *null = fopen("/dev/null", "w"), *mine = fopen("tide.txt", "w");
    printf("%d %d %d %d %d %d\n", seen, kept != 0, shared >= 0, null != 0, mine != 0,
           getuid() == (uid_t)USER);
    return system("exit 3") >> 8; }
"""


def sleepers(seconds: str) -> list[str]:
    lines = (p / "cmdline" for p in Path("/proc").iterdir() if p.name.isdecimal())
    return [
        p.parent.name
        for p in lines
        if p.exists() and p.read_bytes() == f"sleep\0{seconds}\0".encode()
    ]


@pytest.mark.parametrize("free", [[], ["--free"]])
def test_a_program_finds_what_programs_need_and_leaves_nothing(
    tmp_path: Path, free: list[str]
) -> None:
    seconds = f"{1000 + time.monotonic_ns() % 10**6}"
    bench = write_bench(
        tmp_path,
        '[flags]\na = "-O1"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nsources = ["log.c"]\n'
        "program = true\n[[snippet.run]]\n"
        'expected = { stdout = "7 1 1 1 1 1\\n", exit = 3 }\n',
        log=PROGRAM.replace("SECONDS", seconds).replace("USER", str(os.getuid())),
    )
    (verdict,) = document("check", bench, *free)["verdicts"]
    assert verdict["verdict"] == "correct", verdict
    assert not sleepers(seconds)


FORKS = r"""#include <unistd.h>
int main(void) { int made = 0;
    while (made < 5000) { pid_t p = fork(); if (p < 0) break; if (!p) for (;;) pause(); made++; }
    return made < 5000 ? 7 : 0; }
"""


def test_processes_are_bounded_where_the_code_is_not_roots() -> None:
    folder = Path(tempfile.mkdtemp())  # whoever may come here, unlike pytest's
    folder.chmod(0o755)
    (folder / "forks.c").write_text(FORKS)
    launcher, forks = folder / "confine", folder / "forks"
    for source, made in ((NATIVE / "confine.c", launcher), (forks.with_suffix(".c"), forks)):
        subprocess.run(["gcc", "-w", source, "-o", made], check=True)
    root = os.getuid() == 0
    own = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"] if root else []
    told = subprocess.run(
        [*own, launcher, "2", "nmtp", folder, "0", "0", "0", forks],
        capture_output=True,
        text=True,
    )
    shutil.rmtree(folder)
    if told.stderr.startswith("n"):
        lacking("a system with user namespaces")
    assert told.returncode == 7, told


FILLS = r"""#include <fcntl.h>
#include <stdint.h>
#include <stdio.h>
#include <unistd.h>
static char block[1 << 20];
int32_t fills(int32_t most) { char name[32];
    for (int32_t made = 0; made < most; made++) {
        snprintf(name, sizeof name, "%d", made);
        int fd = open(name, O_CREAT | O_WRONLY, 0600);
        if (write(fd, block, sizeof block) < 0) return 1;
        close(fd); }
    return 2; }
"""


def test_code_that_fills_the_disk_is_stopped(tmp_path: Path) -> None:
    if shutil.disk_usage(tmp_path).free < 4 << 30:
        lacking("room on the disk")
    bench = write_bench(
        tmp_path,
        '[flags]\na = "-O1"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nsources = ["gauge.c"]\n'
        'entries = ["fills"]\ninputs = { most = 8000 }\n',
        gauge=FILLS,
    )
    told = hot_anvil("check", bench, "--call-seconds", "60").stdout
    assert "crashed" in told and "wrote more than 1 GiB" in told, told
    assert not list((bench / ".hot-anvil" / "work").iterdir())


ANSWERS = r"""#include <stdint.h>
#include <stdio.h>
static long length(const char *path) { FILE *f = fopen(path, "r"); long n = 0;
    if (!f) return 0;
    while (getc(f) != EOF) n++;
    fclose(f);
    return n; }
int32_t peeks(int32_t n) {
    return (int32_t)(length("../../../anvil.toml") + length("../../results.sqlite")) + n; }
"""


def test_code_cannot_read_what_it_should_answer(tmp_path: Path) -> None:
    bench = write_bench(
        tmp_path,
        '[flags]\na = "-O1"\n[grid]\ntoolchains = ["gcc"]\n[[snippet]]\nsources = ["gauge.c"]\n'
        'entries = ["peeks"]\ninputs = { n = 4 }\n[[snippet.case]]\nexpected = { returns = 4 }\n',
        gauge=ANSWERS,
    )
    for _ in range(2):  # the second time there are results
        told = hot_anvil("check", bench)
        assert "be held in full" in told.stderr or told.returncode == 0, told.stdout
