/* A LADSPA file with four plugins. Two have a function of their own each for a block, and share what works in it; two
   more share even that, so that nobody can tell whose it is. The handle is how long a block takes (ns). */
#include <math.h>
#include <stdlib.h>
#include <time.h>
#include "ladspa.h"

static volatile double heard;

static __attribute__((noinline)) double spent(long ns) {
    struct timespec t;
    volatile double x = 1;
    clock_gettime(CLOCK_MONOTONIC, &t);
    for (long until = t.tv_sec * 1000000000L + t.tv_nsec + ns; t.tv_sec * 1000000000L + t.tv_nsec < until;) {
        for (int i = 0; i < 100; i++) x = sin(x) + exp(-x);
        clock_gettime(CLOCK_MONOTONIC, &t);
    }
    return x;
}

void run_small(void *ns, unsigned long frames) { heard = spent((long)ns); }
void run_large(void *ns, unsigned long frames) { heard = spent((long)ns) + 1; }
void run_twin(void *ns, unsigned long frames) { heard = spent((long)ns) + 2; }

static void *make(const descriptor_t *of, unsigned long rate) { return 0; }
static void connect(void *ns, unsigned long port, float *to) {}
static const int kinds[] = {9};
static const char *const names[] = {"In"};
static const hint_t hints[1];
#define PLUGIN(id, name, run) \
    {id, name, 0, name, "Tests", "none", 1, kinds, names, hints, 0, make, connect, 0, run, 0, 0, 0, (void (*)(void *))free}
static const descriptor_t plugins[] = {
    PLUGIN(1, "small", run_small), PLUGIN(2, "large", run_large), PLUGIN(3, "one", run_twin), PLUGIN(4, "other", run_twin),
};

const descriptor_t *ladspa_descriptor(unsigned long number) { return number < 4 ? &plugins[number] : 0; }
