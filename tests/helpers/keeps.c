/* Plugins that keep memory as real ones do (LADSPA, one channel, they pass their input through), by their labels:
   own     8 MB of its own, from the beginning
   pool    64 MB for all of them together, as samples that all instances play from; 1 MB of its own
   line    48 MB that are touched as it plays, 12 MB in a second of sound at 48 kHz, as a long delay does
   samples maps a file of 40 MB that lies beside it, and reads all of it
   child   a program of its own that keeps 24 MB, as a bridge does; it lies beside it (built with KEEPER)
   grows   64 kB more in every block, for ever
   wide    asks for 2 GB, and uses 1 MB
   passing has 64 MB while it is made, and gives them back
   slowly  takes a tenth of a second to be made, and the first time four tenths more */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <unistd.h>
#include "ladspa.h"

enum { MB = 1 << 20 };
enum { OWN = 1, POOL, LINE, SAMPLES, CHILD, GROWS, WIDE, PASSING, SLOWLY };
typedef struct { int way; float *in, *out; char *own; size_t size, at; pid_t child; } keeps_t;
static char *some(size_t size) {
  char *made = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
  return made == MAP_FAILED ? NULL : made;
}
static char *touched(size_t size) { char *made = some(size); if (made) memset(made, 1, size); return made; }

#ifdef KEEPER
int main(void) { touched(24 * MB); close(STDOUT_FILENO); for (;;) pause(); }
#else
static char *pool; static int players, made;
static void beside(char *path, const char *ending) {
  Dl_info here;
  dladdr((void *)beside, &here);
  snprintf(path, 4096, "%s.%s", here.dli_fname, ending);
}

static void read_samples(keeps_t *k) {
  char path[4096];
  beside(path, "raw");
  int file = open(path, O_RDONLY);
  k->size = 40 * MB;
  k->own = mmap(NULL, k->size, PROT_READ, MAP_PRIVATE, file, 0);
  close(file);
  volatile char seen = 0;
  for (size_t i = 0; k->own != MAP_FAILED && i < k->size; i += 4096) seen += k->own[i];
}

static void *instantiate(const descriptor_t *d, unsigned long rate) {
  (void)rate;
  keeps_t *k = calloc(1, sizeof *k);
  k->way = (int)d->id - 900; /* OWN and those that follow */
  if (k->way == OWN) k->own = touched(k->size = 8 * MB);
  if (k->way == POOL) { if (!players++) pool = touched(64 * MB); k->own = touched(k->size = MB); }
  if (k->way == LINE) k->own = some(k->size = 48 * MB);
  if (k->way == SAMPLES) read_samples(k);
  if (k->way == WIDE) { k->own = some(k->size = (size_t)2048 * MB); memset(k->own, 1, MB); }
  if (k->way == PASSING) { char *passing = touched(64 * MB); munmap(passing, 64 * MB); }
  if (k->way == SLOWLY) usleep(made++ ? 100000 : 500000);
  if (k->way == CHILD) {
    int ends[2]; char path[4096], nothing;
    if (pipe(ends) || (k->child = fork())) {
      close(ends[1]);
      while (read(ends[0], &nothing, 1) > 0) {} /* until it has what it keeps, and closes its end */
      close(ends[0]);
    } else {
      prctl(PR_SET_PDEATHSIG, SIGKILL);
      dup2(ends[1], STDOUT_FILENO); close(ends[0]); close(ends[1]);
      beside(path, "keeper");
      execl(path, path, NULL);
      _exit(1);
    }
  }
  return k;
}
static void connect(void *h, unsigned long port, float *to) { keeps_t *k = h; if (port) k->out = to; else k->in = to; }
static void run(void *h, unsigned long n) {
  keeps_t *k = h;
  memmove(k->out, k->in, n * sizeof *k->in);
  for (unsigned long i = 0; k->way == LINE && i < n; i++) { k->own[k->at] = 1; k->at = (k->at + 262) % k->size; }
  if (k->way == GROWS) touched(65536);
}
static void cleanup(void *h) {
  keeps_t *k = h;
  if (k->own) munmap(k->own, k->size);
  if (k->way == POOL && !--players) munmap(pool, 64 * MB);
  if (k->child > 0) kill(k->child, SIGKILL);
  free(k);
}
static const int KINDS[] = {1 | 8, 2 | 8};
static const char *NAMES[] = {"In", "Out"};
static const hint_t HINTS[2];
static descriptor_t ALL[9];
static const char *LABELS[] = {"own", "pool", "line", "samples", "child", "grows", "wide", "passing", "slowly"};
const descriptor_t *ladspa_descriptor(unsigned long index) {
  if (index >= 9) return NULL;
  ALL[index] = (descriptor_t){.id = 900 + OWN + index, .label = LABELS[index], .name = LABELS[index], .maker = "",
    .copyright = "", .ports = 2, .kinds = KINDS, .names = NAMES, .hints = HINTS, .instantiate = instantiate,
    .connect = connect, .run = run, .cleanup = cleanup};
  return &ALL[index];
}
#endif
