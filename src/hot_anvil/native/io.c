/* The talk of a worker with whoever asks it, and its end: below all other parts. */
#include "worker.h"

#include <errno.h>
#include <string.h>
#include <unistd.h>

int request_fd, answer_fd;

void die(int code) { _exit(code); }

void read_all(void *to, size_t size)
{
    unsigned char *at = to;
    while (size) {
        ssize_t got = read(request_fd, at, size);
        if (got < 0 && errno == EINTR) continue;
        if (got <= 0) die(got == 0 ? 0 : 120);
        at += got;
        size -= (size_t)got;
    }
}

void write_all(const void *from, size_t size)
{
    const unsigned char *at = from;
    while (size) {
        ssize_t put = write(answer_fd, at, size);
        if (put < 0 && errno == EINTR) continue;
        if (put <= 0) die(121);
        at += put;
        size -= (size_t)put;
    }
}

void answer(uint8_t status, uint32_t size)
{
    unsigned char head[5] = { status };
    memcpy(head + 1, &size, 4);
    write_all(head, 5);
}

void answer_with(const void *from, size_t size)
{
    answer(0, (uint32_t)size);
    write_all(from, size);
}
