/* The launcher of all code under study: starts a program so that it can change one folder only,
 * sees no other process and reaches no network. docs/security.md says what that holds.
 *
 * Arguments: descriptor to tell on, means, folder that may be written to, how many files are hidden
 * and their paths, memory limit in bytes or 0, limit of file size in bytes or 0, the program (a
 * path) and its arguments.
 * Means, a letter each: n namespaces, m a view of the files that cannot be written to, t a /tmp of
 * its own, p a /proc of its own, l Landlock. One that cannot be had ends this with code 125.
 * Tells "+N", the program's process as whoever started us sees it, or the letter of what cannot be
 * had ("x": the program cannot be started) and why. Ends as the program does; on SIGTERM, and when
 * whoever started us is gone, kills it first.
 *
 * Three processes: this one waits outside; the first in the new namespace of processes, whose end
 * ends all others there; and the program, which is not the first, since no signal ends that one.
 * Killed out of turn they would wait for ever for whoever collects orphans here: not all do.
 */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <linux/capability.h>
#include <net/if.h>
#include <sched.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

enum { NOT_STARTED = 125, MOST_PROCESSES = 4096 };
/* System calls that headers may be older than; numbered alike on all architectures. */
enum { CLONE3 = 435, CLOSE_RANGE = 436 };
enum { MOUNT_SETATTR = 442, RULES_MAKE = 444, RULES_ADD = 445, RULES_APPLY = 446 };
enum { DOWNWARDS = 0x8000, READ_ONLY = 1, NO_SUID = 2 }; /* of mount_setattr */
struct start {
    uint64_t flags, handle, child, parent, exit_signal, stack, size, storage, numbers, count;
};
struct mount_change { uint64_t set, clear, propagation, user_namespace; };
/* Landlock: rights to files by number, to TCP, and what stays in the domain. */
enum { EXECUTE = 1, WRITE_FILE = 2, READ_FILE = 4, READ_FOLDER = 8, TRUNCATE = 1 << 14 };
struct rules { uint64_t files, tcp, kept_inside; };
struct __attribute__((packed)) rule { uint64_t allowed; int32_t beneath; };

static int tell_fd;
static const char *means, *folder;

static int wanted(char mean) { return strchr(means, mean) != NULL; }

static void tell(const char *text)
{
    if (write(tell_fd, text, strlen(text)) < 0) _exit(NOT_STARTED);
}

static void give_up(char mean, const char *doing)
{
    char text[160];
    snprintf(text, sizeof text, "%c%s: %s", mean, doing, strerror(errno));
    tell(text);
    _exit(NOT_STARTED);
}

static int put(const char *path, const char *text)
{
    int fd = open(path, O_WRONLY | O_CLOEXEC);
    if (fd < 0) return -1;
    ssize_t done = write(fd, text, strlen(text));
    close(fd);
    return done < 0 ? -1 : 0;
}

/* The same user and group inside as outside, so that files keep their owners. */
static void separate(void)
{
    char users[64], groups[64];
    snprintf(users, sizeof users, "%u %u 1", (unsigned)getuid(), (unsigned)getuid());
    snprintf(groups, sizeof groups, "%u %u 1", (unsigned)getgid(), (unsigned)getgid());
    if (unshare(CLONE_NEWUSER | CLONE_NEWNS | CLONE_NEWPID | CLONE_NEWNET | CLONE_NEWIPC))
        give_up('n', "unshare");
    put("/proc/self/setgroups", "deny"); /* without it the next fails, and says so */
    if (put("/proc/self/gid_map", groups) || put("/proc/self/uid_map", users))
        give_up('n', "user map");
    struct ifreq lo = { .ifr_name = "lo", .ifr_flags = IFF_UP | IFF_RUNNING };
    int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (fd >= 0) ioctl(fd, SIOCSIFFLAGS, &lo); /* a program may talk with itself */
    close(fd);
}

static int change(const char *path, int how, uint64_t set, uint64_t clear)
{
    struct mount_change change = { .set = set, .clear = clear };
    return (int)syscall(MOUNT_SETATTR, AT_FDCWD, path, how, &change, sizeof change);
}

/* Bind what an open descriptor stands for to a path. */
static int bind_opened(int fd, const char *path)
{
    char from[64];
    snprintf(from, sizeof from, "/proc/self/fd/%d", fd);
    int failed = mount(from, path, NULL, MS_BIND, NULL);
    close(fd);
    return failed;
}

static const char *const kept[] = {
    "/dev/null", "/dev/zero", "/dev/full", "/dev/random", "/dev/urandom",
};
enum { KEPT = sizeof kept / sizeof *kept };

/* Devices that hold nothing take the place of all others. */
static int few_devices(void)
{
    static const char *const links[][2] = {
        { "/proc/self/fd", "/dev/fd" }, { "/proc/self/fd/0", "/dev/stdin" },
        { "/proc/self/fd/1", "/dev/stdout" }, { "/proc/self/fd/2", "/dev/stderr" },
    };
    enum { LINKS = sizeof links / sizeof *links };
    int fds[KEPT];
    for (int i = 0; i < KEPT; i++)
        if ((fds[i] = open(kept[i], O_PATH | O_CLOEXEC)) < 0) return -1;
    if (mount("tmpfs", "/dev", "tmpfs", MS_NOSUID | MS_NOEXEC, "mode=755,size=64m")) return -1;
    for (int i = 0; i < KEPT; i++) {
        close(open(kept[i], O_CREAT | O_CLOEXEC, 0600));
        if (bind_opened(fds[i], kept[i])) return -1;
    }
    for (int i = 0; i < LINKS; i++)
        if (symlink(links[i][0], links[i][1])) return -1;
    return mkdir("/dev/shm", 01777) || chmod("/dev/shm", 01777);
}

/* What is written to /tmp stays in memory of its own; what lies there already can be read. */
static int own_tmp(void)
{
    if (mkdir("/dev/.tmp", 0700) || mkdir("/dev/.tmp/up", 01777) || chmod("/dev/.tmp/up", 01777)
        || mkdir("/dev/.tmp/work", 0700))
        return -1;
    return mount("overlay", "/tmp", "overlay", MS_NOSUID,
                 "lowerdir=/tmp,upperdir=/dev/.tmp/up,workdir=/dev/.tmp/work,userxattr");
}

static void hold_files(char **hidden, int count)
{
    if (mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL)) give_up('m', "private mounts");
    if (mount(folder, folder, NULL, MS_BIND, NULL)) give_up('m', "own folder");
    int own = open(folder, O_PATH | O_CLOEXEC);
    if (!wanted('t') && mount("/tmp", "/tmp", NULL, MS_BIND, NULL)) give_up('m', "/tmp");
    if (change("/", DOWNWARDS, READ_ONLY | NO_SUID, 0)) give_up('m', "mount_setattr");
    if (!wanted('t') && change("/tmp", 0, 0, READ_ONLY)) give_up('m', "/tmp");
    if (few_devices()) give_up('m', "devices");
    if (wanted('t') && own_tmp()) give_up('t', "overlay on /tmp");
    if (own < 0 || bind_opened(own, folder) || change(folder, 0, 0, READ_ONLY))
        give_up('m', "own folder");
    for (int i = 0; i < count; i++)
        if (mount("/dev/null", hidden[i], NULL, MS_BIND, NULL) && errno != ENOENT)
            give_up('m', "hidden file");
}

/* The first process in its namespace: collects what others leave, and takes them with it. */
static pid_t start_first(void)
{
    int ready[2];
    char failed = 0;
    if (pipe2(ready, O_CLOEXEC)) give_up('n', "pipe");
    pid_t first = fork();
    if (first < 0) give_up('n', "fork");
    if (first == 0) {
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        signal(SIGCHLD, SIG_IGN); /* children need no wait then */
        if (wanted('p')
            && mount("proc", "/proc", "proc", MS_NOSUID | MS_NODEV | MS_NOEXEC | MS_RDONLY, NULL))
            failed = (char)errno;
        if (write(ready[1], &failed, 1) < 0) _exit(1);
        syscall(CLOSE_RANGE, 0, ~0U, 0);
        for (;;) pause();
    }
    if (read(ready[0], &failed, 1) != 1) failed = ESRCH;
    close(ready[0]);
    close(ready[1]);
    if (failed) {
        errno = failed;
        give_up('p', "/proc");
    }
    return first;
}

/* Another number each time, as outside: code may depend on it. */
static pid_t start_program(void)
{
    pid_t number = 2 + getpid() % 30000;
    struct start start = { .exit_signal = SIGCHLD, .numbers = (uintptr_t)&number, .count = 1 };
    pid_t made = wanted('n') ? (pid_t)syscall(CLONE3, &start, sizeof start) : -1;
    return made < 0 ? fork() : made;
}

static void allow(int set, const char *path, uint64_t rights)
{
    struct rule rule = { rights, open(path, O_PATH | O_CLOEXEC) };
    if (rule.beneath < 0 || syscall(RULES_ADD, set, 1, &rule, 0)) give_up('l', path);
    close(rule.beneath);
}

/* Each version of the kernel's interface knows more rights than the one before. */
static void landlock(void)
{
    static const int file_rights[] = { 0, 13, 14, 15, 15, 16 };
    static const size_t sizes[] = { 0, 8, 8, 8, 16, 16, 24 };
    long version = syscall(RULES_MAKE, NULL, 0, 1);
    if (version < 1) give_up('l', "Landlock");
    uint64_t all = ((uint64_t)1 << file_rights[version > 5 ? 5 : version]) - 1;
    uint64_t reading = EXECUTE | READ_FILE | READ_FOLDER;
    struct rules rules = { all & 0x7fff, 3, 3 }; /* requests to devices stay */
    int set = (int)syscall(RULES_MAKE, &rules, sizes[version > 6 ? 6 : version], 0);
    if (set < 0) give_up('l', "Landlock");
    allow(set, "/", reading);
    for (int i = 0; i < KEPT; i++)
        allow(set, kept[i], (READ_FILE | WRITE_FILE | TRUNCATE) & rules.files);
    allow(set, "/tmp", rules.files);
    if (!access("/dev/shm", W_OK)) allow(set, "/dev/shm", rules.files);
    allow(set, folder, rules.files);
    if (syscall(RULES_APPLY, set, 0)) give_up('l', "Landlock");
    close(set);
}

static void limit(int what, rlim_t most)
{
    struct rlimit now;
    if (getrlimit(what, &now)) return;
    if (now.rlim_max == RLIM_INFINITY || most < now.rlim_max) now.rlim_max = most;
    now.rlim_cur = now.rlim_max;
    setrlimit(what, &now);
}

static void drop_rights(void)
{
    struct __user_cap_header_struct head = { _LINUX_CAPABILITY_VERSION_3, 0 };
    struct __user_cap_data_struct none[2] = { { 0, 0, 0 }, { 0, 0, 0 } };
    for (int right = 0; right < 64; right++) prctl(PR_CAPBSET_DROP, right);
    if (syscall(SYS_capset, &head, none)) give_up('n', "capset");
}

static void become(char **argv)
{
    prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (wanted('n')) setsid(); /* elsewhere the group is what ends it */
    if (chdir(folder)) give_up('x', folder);
    if (prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)) give_up('x', "no new privileges");
    if (wanted('n')) {
        limit(RLIMIT_NPROC, MOST_PROCESSES);
        drop_rights();
    }
    if (wanted('l')) landlock();
    limit(RLIMIT_CORE, 0);
    if (atoll(argv[1])) limit(RLIMIT_FSIZE, (rlim_t)atoll(argv[1]));
    if (atoll(argv[0])) limit(RLIMIT_AS, (rlim_t)atoll(argv[0]));
    execv(argv[2], argv + 2);
    give_up('x', argv[2]);
}

static pid_t program;

static void end_program(int number)
{
    (void)number;
    kill(program, SIGKILL);
}

int main(int argc, char **argv)
{
    int hidden = argc > 4 ? atoi(argv[4]) : 0;
    if (argc < hidden + 8) return NOT_STARTED;
    sigset_t asked; /* to end: only when there is something to kill */
    sigemptyset(&asked);
    sigaddset(&asked, SIGTERM);
    sigprocmask(SIG_BLOCK, &asked, NULL);
    signal(SIGTERM, end_program);
    prctl(PR_SET_PDEATHSIG, SIGTERM);
    tell_fd = atoi(argv[1]);
    means = argv[2];
    folder = argv[3];
    if (fcntl(tell_fd, F_SETFD, FD_CLOEXEC)) return NOT_STARTED;
    if (wanted('n')) separate();
    if (wanted('m')) hold_files(argv + 5, hidden);
    pid_t first = wanted('n') ? start_first() : 0;
    program = start_program();
    if (program < 0) give_up('x', "fork");
    if (program == 0) {
        sigprocmask(SIG_UNBLOCK, &asked, NULL);
        signal(SIGTERM, SIG_DFL);
        become(argv + 5 + hidden);
    }
    sigprocmask(SIG_UNBLOCK, &asked, NULL);
    char text[32];
    snprintf(text, sizeof text, "+%ld\n", (long)program);
    tell(text);
    syscall(CLOSE_RANGE, 0, ~0U, 0); /* that a pipe ends when the program does */
    int status;
    while (waitpid(program, &status, 0) < 0)
        if (errno != EINTR) return NOT_STARTED;
    if (first) {
        kill(first, SIGKILL);
        waitpid(first, NULL, 0);
    }
    if (!WIFSIGNALED(status)) return WEXITSTATUS(status);
    limit(RLIMIT_CORE, 0);
    signal(WTERMSIG(status), SIG_DFL);
    raise(WTERMSIG(status));
    return NOT_STARTED;
}
