/* A plugin of known work, for a host that is watched: all of it inside the mathematics library, as filters' is. */
#include <math.h>
#include <time.h>

static long now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * 1000000000L + t.tv_nsec;
}

void work(long ns) {
    volatile double x = 1;
    for (long until = now() + ns; now() < until;)
        for (int i = 0; i < 100; i++) x = sin(x) + exp(-x);
}
