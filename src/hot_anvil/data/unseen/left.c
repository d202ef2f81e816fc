#define _GNU_SOURCE
#include <fcntl.h>
#include <fenv.h>
#include <signal.h>
#include <stdint.h>
#include <stdlib.h>
#include <unistd.h>

/* What a call leaves changed in its process: each fault beside code that puts it back. */

int32_t feet_rounded(double metres)
{
    int before = fegetround();
    fesetround(FE_UPWARD);
    int32_t feet = (int32_t)(metres / 0.3048);
    fesetround(before);
    return feet;
}

int32_t feet_left(double metres)
{
    fesetround(FE_UPWARD);
    return (int32_t)(metres / 0.3048);
}

int32_t quiet_again(int32_t level)
{
    sigset_t all, before;
    sigfillset(&all);
    sigprocmask(SIG_BLOCK, &all, &before);
    level += 1;
    sigprocmask(SIG_SETMASK, &before, 0);
    return level;
}

int32_t quiet_for_ever(int32_t level)
{
    sigset_t all;
    sigfillset(&all);
    sigprocmask(SIG_BLOCK, &all, 0);
    return level + 1;
}

int32_t folder_back(int32_t level)
{
    int here = open(".", O_RDONLY);
    int moved = chdir("/");
    int back = fchdir(here);
    close(here);
    return level + 1 + moved + back;
}

int32_t folder_left(int32_t level)
{
    return level + 1 + chdir("/");
}

int32_t name_taken_back(int32_t level)
{
    setenv("TIDE", level > 0 ? "high" : "low", 1);
    unsetenv("TIDE");
    return level + 1;
}

int32_t name_left(int32_t level)
{
    setenv("TIDE", "high", 1);
    return level + 1;
}

int32_t log_closed(int32_t level)
{
    int log = open("/dev/null", O_WRONLY);
    ssize_t written = write(log, &level, sizeof level);
    close(log);
    return level + (written == sizeof level);
}

int32_t log_left(int32_t level)
{
    int log = open("/dev/null", O_WRONLY);
    return level + (write(log, &level, sizeof level) == sizeof level);
}

int32_t all_closed(int32_t level)
{
    for (int file = 0; file < 256; file++)
        close(file);
    return level + 1;
}

int32_t mmx_emptied(int32_t level)
{
    __asm__ volatile("movd %0, %%mm0\n\tpaddd %%mm0, %%mm0\n\temms" : : "r"(level));
    return level + 1;
}

int32_t mmx_left(int32_t level)
{
    __asm__ volatile("movd %0, %%mm0\n\tpaddd %%mm0, %%mm0" : : "r"(level));
    return level + 1;
}

float tiny_back(float height)
{
    unsigned before = __builtin_ia32_stmxcsr();
    __builtin_ia32_ldmxcsr(before | 0x8040);
    volatile float tiny = height * 1e-3f;
    __builtin_ia32_ldmxcsr(before);
    return tiny;
}

float tiny_left(float height)
{
    __builtin_ia32_ldmxcsr(__builtin_ia32_stmxcsr() | 0x8040);
    volatile float tiny = height * 1e-3f;
    return tiny;
}

int32_t down_back(int32_t level)
{
    __asm__ volatile("std\n\tcld" : : : "cc");
    return level - 3;
}

int32_t down_left(int32_t level)
{
    __asm__ volatile("std" : : : "cc");
    return level - 3;
}
