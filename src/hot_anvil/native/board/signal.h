/* All that worker.h takes of <signal.h>, where there is no C library. */
typedef int sig_atomic_t;
