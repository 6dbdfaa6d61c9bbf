/* A host of the tests' own: plugins of known work on known threads, block after block, with a log of what it did itself.

   host PERIOD_NS BLOCKS THREADS LOG REAL_TIME LATE_EVERY PLUGIN:NS[:BURST_EVERY:BURST_NS] ...

   Plugins are shared objects with `void work(long ns)`, or another such function that is named behind an @. They are dealt out to the threads in turn; the first thread
   begins each block, wakes the others and waits for them. Every LATE_EVERY-th block (0: none) the first thread spins on
   until a tenth of a period after its due. HOST_IDLE more threads wake up every tenth of a second or so, as those of real
   hosts do; HOST_FILES names a folder whose files are all mapped. With HOST_SPIN workers do not sleep while they wait for
   their turn, but look again and again: for so many ns (then they sleep), or without an end (-1), giving way each time
   (-2); with HOST_BARRIER so does the first thread while it waits for them. The log has a line a block: due, begun, ended (ns, CLOCK_MONOTONIC), then
   what each plugin took. */
#define _GNU_SOURCE
#include <dirent.h>
#include <dlfcn.h>
#include <fcntl.h>
#include <math.h>
#include <pthread.h>
#include <sched.h>
#include <semaphore.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <time.h>
#include <unistd.h>

#define MOST 64

static long period, blocks, late_every;
static int threads, plugins;
static struct { void (*work)(long); long ns, every, burst; } plugin[MOST];
static sem_t go[MOST], done;
static long *taken, now_block;
static volatile int over;
static volatile long turn[MOST], through;
static long spin;
static int barrier;

static long now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * 1000000000L + t.tv_nsec;
}

static void part(int thread) {
    for (int k = thread; k < plugins; k += threads) {
        long begun = now(), ns = plugin[k].ns;
        if (plugin[k].every && now_block % plugin[k].every == 0) ns += plugin[k].burst;
        plugin[k].work(ns);
        taken[now_block * plugins + k] = now() - begun;
    }
}

/* Until a thread's turn comes, for the so manieth time. */
__attribute__((noinline)) static void wait_for(int thread, long seen) {
    for (long until = spin > 0 ? now() + spin : 0; spin && turn[thread] < seen;) {
        if (spin == -2) sched_yield();
        else if (spin == -3) __asm__ volatile("" ::: "memory");
        else __builtin_ia32_pause();
        if (until && now() > until) break;
    }
    while (sem_wait(&go[thread])) {}
}

static void *worker(void *which) {
    int thread = (int)(long)which;
    char name[16];
    snprintf(name, sizeof name, "worker %d", thread);
    pthread_setname_np(pthread_self(), name);
    for (long seen = 0;;) {
        wait_for(thread, ++seen);
        if (over) return 0;
        part(thread);
        __sync_fetch_and_add(&through, 1);
        if (!barrier) sem_post(&done);
    }
}

/* Draws, so to speak: what a window does beside the engine. */
static void *window(void *unused) {
    (void)unused;
    pthread_setname_np(pthread_self(), "drawing");
    while (!over) {
        volatile double x = 1;
        for (int i = 0; i < 20000; i++) x = sin(x) + 1;
        struct timespec t = {0, 11000000};
        nanosleep(&t, 0);
    }
    return 0;
}

/* Waits for something that hardly ever comes. */
static void *idle(void *which) {
    struct timespec t = {0, 80000000 + (long)which % 64 * 1000000};
    while (!over) nanosleep(&t, 0);
    return 0;
}

static void map_all(const char *folder) {
    DIR *dir = opendir(folder);
    char path[4096];
    for (struct dirent *entry; dir && (entry = readdir(dir));) {
        snprintf(path, sizeof path, "%s/%s", folder, entry->d_name);
        int file = open(path, O_RDONLY);
        if (file >= 0) mmap(0, 4096, PROT_READ | PROT_EXEC, MAP_PRIVATE, file, 0), close(file);
    }
    if (dir) closedir(dir);
}

int main(int count, char **words) {
    period = atol(words[1]), blocks = atol(words[2]), threads = atoi(words[3]);
    int real_time = atoi(words[5]);
    late_every = atol(words[6]);
    for (int k = 7; k < count; k++) {
        char *path = strtok(words[k], ":"), *name = strchr(path, '@');
        if (name) *name++ = 0;
        void *file = dlopen(path, RTLD_NOW | RTLD_LOCAL);
        if (!file) return fprintf(stderr, "%s\n", dlerror()), 1;
        plugin[plugins].work = (void (*)(long))dlsym(file, name ? name : "work");
        char *ns = strtok(0, ":"), *every = strtok(0, ":"), *burst = strtok(0, ":");
        plugin[plugins].ns = atol(ns);
        plugin[plugins].every = every ? atol(every) : 0;
        plugin[plugins++].burst = burst ? atol(burst) : 0;
    }
    taken = calloc(blocks * (plugins ? plugins : 1), sizeof *taken);
    long *log = calloc(blocks * 3, sizeof *log);
    pthread_t thread[MOST], drawing;
    pthread_create(&drawing, 0, window, 0);
    const char *more = getenv("HOST_IDLE"), *folder = getenv("HOST_FILES"), *spins = getenv("HOST_SPIN");
    spin = spins ? atol(spins) : 0, barrier = getenv("HOST_BARRIER") != 0;
    if (folder) map_all(folder);
    for (long k = 0; more && k < atol(more); k++) {
        pthread_t sleeper;
        pthread_create(&sleeper, 0, idle, (void *)k);
    }
    if (real_time) {
        struct sched_param p = {.sched_priority = 20};
        if (pthread_setschedparam(pthread_self(), SCHED_FIFO, &p)) fprintf(stderr, "not in real time\n");
    }
    sem_init(&done, 0, 0);
    for (int k = 1; k < threads; k++) {
        sem_init(&go[k], 0, 0);
        pthread_create(&thread[k], 0, worker, (void *)(long)k);
    }
    printf("ready\n");
    fflush(stdout);
    long due = now() + period;
    for (now_block = 0; now_block < blocks; now_block++, due += period) {
        struct timespec t = {due / 1000000000L, due % 1000000000L};
        while (now() < due) clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &t, 0);
        log[3 * now_block] = due, log[3 * now_block + 1] = now();
        for (int k = 1; k < threads; k++) sem_post(&go[k]), turn[k]++;
        part(0);
        for (int k = 1; k < threads && !barrier; k++)
            while (sem_wait(&done)) {}
        while (barrier && through < (now_block + 1) * (threads - 1)) __builtin_ia32_pause();
        if (late_every && now_block % late_every == late_every - 1)
            while (now() < due + period + period / 10) {}
        log[3 * now_block + 2] = now();
    }
    over = 1;
    for (int k = 1; k < threads; k++) sem_post(&go[k]), turn[k]++;
    FILE *file = fopen(words[4], "w");
    for (long k = 0; k < blocks; k++) {
        fprintf(file, "%ld %ld %ld", log[3 * k], log[3 * k + 1], log[3 * k + 2]);
        for (int p = 0; p < plugins; p++) fprintf(file, " %ld", taken[k * plugins + p]);
        fprintf(file, "\n");
    }
    fclose(file);
    return 0;
}
