/* Plugins that do not compute while they take time, each for so many ns: they sleep, they read memory that lies on the
   disk, they touch memory that nobody has touched before, they have a process of their own compute, which is not in
   real time, and wait for it.

   The file that `cold` reads is named by STALLS_FILE: 64 MB, of which nothing is left in memory. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <sched.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <signal.h>
#include <time.h>
#include <unistd.h>

#define SIZE (64L << 20)
#define PAGE 4096

static long by(clockid_t clock) {
    struct timespec t;
    clock_gettime(clock, &t);
    return t.tv_sec * 1000000000L + t.tv_nsec;
}

static long now(void) { return by(CLOCK_MONOTONIC); }

static volatile long sum;

void naps(long ns) {
    struct timespec t = {0, ns};
    if (ns) nanosleep(&t, 0);
}

/* Page by page, so far apart that none is read ahead. */
void cold(long ns) {
    static char *file;
    static long place;
    if (!file) {
        int of = open(getenv("STALLS_FILE"), O_RDONLY);
        posix_fadvise(of, 0, 0, POSIX_FADV_DONTNEED);
        file = mmap(0, SIZE, PROT_READ, MAP_SHARED, of, 0);
        madvise(file, SIZE, MADV_RANDOM);
        close(of);
    }
    for (long until = now() + ns; now() < until; place = (place + 1) % (SIZE / PAGE))
        sum += file[(place * 317 % (SIZE / PAGE)) * PAGE];
}

void fresh(long ns) {
    for (long until = now() + ns; now() < until;) {
        char *new = mmap(0, 16 * PAGE, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
        for (int k = 0; k < 16; k++) new[k * PAGE] = 1;
        munmap(new, 16 * PAGE);
    }
}

void bridged(long ns) {
    static int to[2], from[2];
    if (!to[1]) {
        if (pipe(to) || pipe(from)) abort();
        if (!fork()) {
            struct sched_param none = {0};
            prctl(PR_SET_PDEATHSIG, SIGKILL);
            sched_setscheduler(0, SCHED_OTHER, &none);
            for (long work; read(to[0], &work, sizeof work) == sizeof work;) {
                volatile double x = 1;
                /* By what it computed itself: others may have its core meanwhile. */
                for (long until = by(CLOCK_THREAD_CPUTIME_ID) + work; by(CLOCK_THREAD_CPUTIME_ID) < until;)
                    for (int k = 0; k < 2000; k++) x = x * 0.999 + 0.1;
                if (write(from[1], &work, sizeof work) < 0) break;
            }
            _exit(0);
        }
    }
    if (write(to[1], &ns, sizeof ns) < 0 || read(from[0], &ns, sizeof ns) < 0) abort();
}
