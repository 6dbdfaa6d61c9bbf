/* A host of a few lines, to compare with: plays one CLAP plugin in blocks and times each by the clock.

   plain FILE ID RATE FRAMES LEAD BLOCKS ROUNDS CORE SIGNAL CHANNELS
   Prints the least of each block over the rounds in which nobody shared the core, on average (nanoseconds), without
   what an empty call takes; and of which share of the blocks that is known, of the others the least counts. After
   each block known arithmetic tells: steps that wait for each other, and four chains at once, which take longer where
   another thread has its part of the core's units. There are ROUNDS rounds, and up to four times as many until nine in
   ten blocks are known. The plugin is switched on anew for each, for exactly this size. SIGNAL holds CHANNELS rows of
   float32. */
#define _GNU_SOURCE
#include "clap.h"
#include <dlfcn.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <time.h>
#if defined __x86_64__
#include <xmmintrin.h>
#endif

typedef struct { version_t v; void *data; const char *name, *vendor, *url, *version;
  const void *(*extension)(const void *, const char *); void (*restart)(const void *), (*process)(const void *), (*callback)(const void *); } host_t;
static const void *no_extension(const void *h, const char *id) { (void)h; (void)id; return NULL; }
static void ask(const void *h) { (void)h; }
static host_t HOST = {{1, 2, 0}, NULL, "plain", "plain", "", "1", no_extension, ask, ask, ask};
static uint32_t none(const events_t *e) { (void)e; return 0; }
static const void *never(const events_t *e, uint32_t i) { (void)e; (void)i; return NULL; }
static bool take(const void *l, const void *e) { (void)l; (void)e; return true; }
static int32_t empty(const plugin_t *p, const process_t *b) { (void)p; (void)b; return 1; }
static long now(void) { struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t); return t.tv_sec * 1000000000L + t.tv_nsec; }
static int by_size(const void *a, const void *b) { long x = *(const long *)a, y = *(const long *)b; return (x > y) - (x < y); }

enum { CHAIN, UNITS, TOLD };
static void attest(long *told) {
  static float x = 0.1f; static uint64_t a = 1;
  told[CHAIN] = told[UNITS] = 1L << 60;
  for (int t = 0; t < 2; t++) {
    long begun = now();
    for (int k = 0; k < 250; k++) x = x * 0.5f + 0.25f;
    long spent = now() - begun;
    if (spent < told[CHAIN]) told[CHAIN] = spent;
    begun = now();
    uint64_t b = a + 1, c = a + 2, d = a + 3;
    for (int k = 0; k < 150; k++) {
      a = (a * 6364136223846793005u + 1442695040888963407u) ^ (a >> 7); b = (b * 6364136223846793005u + 1442695040888963409u) ^ (b >> 9);
      c = (c * 6364136223846793005u + 1442695040888963411u) ^ (c >> 11); d = (d * 6364136223846793005u + 1442695040888963413u) ^ (d >> 13);
    }
    spent = now() - begun;
    if (spent < told[UNITS]) told[UNITS] = spent;
    a ^= b ^ c ^ d;
  }
}
static long tenth(const long (*told)[TOLD], size_t count, int column) {
  long *sorted = malloc(8 * count);
  for (size_t k = 0; k < count; k++) sorted[k] = told[k][column];
  qsort(sorted, count, 8, by_size);
  long found = sorted[count / 10];
  free(sorted);
  return found;
}
static uint32_t ports(const plugin_t *p, bool input, audio_t *to, float **rows, uint32_t most) {
  const ports_t *of = p->extension(p, "clap.audio-ports");
  uint32_t used = 0, count = of ? of->count(p, input) : 0;
  for (uint32_t k = 0; k < count; k++) {
    port_t port; memset(&port, 0, sizeof port); of->get(p, k, input, &port);
    memset(&to[k], 0, sizeof to[k]);
    to[k].channels = port.channels; to[k].data32 = calloc(port.channels + 1, sizeof(float *));
    for (uint32_t c = 0; c < port.channels; c++) rows[used++] = to[k].data32[c] = aligned_alloc(64, 4 * ((most + 15) & ~15u));
  }
  return count | used << 16;
}

int main(int n, char **a) {
  if (n < 11) return 2;
  uint32_t rate = atoi(a[3]), frames = atoi(a[4]), lead = atoi(a[5]), blocks = atoi(a[6]), rounds = atoi(a[7]), channels = atoi(a[10]);
  FILE *file = fopen(a[9], "rb"); fseek(file, 0, SEEK_END);
  size_t length = ftell(file) / 4 / channels; rewind(file);
  float *signal = malloc(4 * length * channels);
  if (fread(signal, 4, length * channels, file) != length * channels) return 2;
  void *library = dlopen(a[1], RTLD_NOW | RTLD_LOCAL);
  if (!library) { fprintf(stderr, "%s\n", dlerror()); return 2; }
  const struct { version_t v; bool (*init)(const char *); void (*deinit)(void); const void *(*factory)(const char *); } *entry = dlsym(library, "clap_entry");
  entry->init(a[1]);
  const struct { uint32_t (*count)(const void *); const descriptor_t *(*get)(const void *, uint32_t);
    const plugin_t *(*create)(const void *, const void *, const char *); } *factory = entry->factory("clap.plugin-factory");
  const plugin_t *p = factory->create(factory, &HOST, a[2]);
  if (!p || !p->init(p)) return 2;
  audio_t ins[64], outs[64]; float *in[1024], *out[1024];
  uint32_t i = ports(p, true, ins, in, frames), o = ports(p, false, outs, out, frames);
  events_t events = {NULL, none, never}; struct { void *ctx; bool (*push)(const void *, const void *); } sent = {NULL, take};
  process_t block = {-1, frames, NULL, ins, outs, i & 0xffff, o & 0xffff, &events, &sent};
  cpu_set_t cores; CPU_ZERO(&cores); CPU_SET(atoi(a[8]), &cores); sched_setaffinity(0, sizeof cores, &cores);
  struct sched_param fifo = {10}; sched_setscheduler(0, SCHED_FIFO, &fifo); mlockall(MCL_CURRENT);
#if defined __x86_64__
  _mm_setcsr(_mm_getcsr() | 0x8040);
#endif
  uint32_t most = 4 * rounds, each = lead + blocks;
  long *least = malloc(8 * blocks), *alone = malloc(8 * blocks), *idle = malloc(8 * 20000), *times = malloc(8L * most * blocks);
  long (*told)[TOLD] = malloc(sizeof(long[TOLD]) * most * each);
  int32_t (*volatile nothing_at_all)(const plugin_t *, const process_t *) = empty;
  for (int k = 0; k < 20000; k++) { long begun = now(); nothing_at_all(p, &block); idle[k] = now() - begun; }
  qsort(idle, 20000, 8, by_size);
  double sum = 0, known = 0;
  for (uint32_t r = 0; r < most && (r < rounds || known < 0.9 * blocks); r++) {
    if (r) { p->stop(p); p->deactivate(p); }
    if (!p->activate(p, rate, 1, frames) || !p->start(p)) return 2;
    p->reset(p);
    size_t at = 0;
    for (uint32_t k = 0; k < each; k++) {
      if (at + frames > length) at = 0;
      for (uint32_t c = 0; c < i >> 16; c++) memcpy(in[c], signal + length * (c % channels) + at, 4 * frames);
      at += frames;
      long begun = now();
      p->process(p, &block);
      long spent = now() - begun;
      attest(told[(size_t)r * each + k]);
      if (k >= lead) times[(size_t)r * blocks + k - lead] = spent;
    }
    if (r + 1 < rounds) continue;
    size_t count = (size_t)(r + 1) * each, half = count / 2;
    double first = (double)tenth(told, half, UNITS) / tenth(told, half, CHAIN), second = (double)tenth(told + half, half, UNITS) / tenth(told + half, half, CHAIN);
    double best = 1.08 * (first > second ? first : second);
    sum = known = 0;
    for (uint32_t k = 0; k < blocks; k++) {
      long slowest = 1L << 60;
      least[k] = alone[k] = 1L << 60;
      for (uint32_t q = 0; q <= r; q++) if (told[(size_t)q * each + lead + k][CHAIN] < slowest) slowest = told[(size_t)q * each + lead + k][CHAIN];
      for (uint32_t q = 0; q <= r; q++) {
        const long *here = told[(size_t)q * each + lead + k], *before = lead + k ? here - TOLD : here;
        long spent = times[(size_t)q * blocks + k];
        bool nobody = here[UNITS] <= best * here[CHAIN] && before[UNITS] <= best * before[CHAIN] && here[CHAIN] <= 1.04 * slowest;
        if (spent < least[k]) least[k] = spent;
        if (nobody && spent < alone[k]) alone[k] = spent;
      }
      known += alone[k] < 1L << 60;
      sum += (alone[k] < 1L << 60 ? alone[k] : least[k]) - idle[10000];
    }
  }
  printf("%.1f %.3f\n", sum / blocks, known / blocks);
  fflush(stdout);
  _exit(0);
}
