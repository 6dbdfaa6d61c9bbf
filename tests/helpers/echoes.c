/* LADSPA plugins that answer late. "echoes" gives its input back after Late samples, which it reports, and once more
   Apart seconds after that, softer by Feedback each time. Late below 0 is the size of the block. It takes the time of a
   copy only. */
#include <math.h>
#include <stdlib.h>
#include <string.h>
#include "ladspa.h"
enum { LONG = 1 << 20 };
typedef struct { float *ports[6]; double rate; float *dry, *wet; unsigned at; } own_t;
static void *instantiate(const descriptor_t *d, unsigned long rate) {
  (void)d;
  own_t *o = calloc(1, sizeof *o);
  o->rate = (double)rate; o->dry = calloc(LONG, sizeof(float)); o->wet = calloc(LONG, sizeof(float));
  return o;
}
static void connect(void *h, unsigned long port, float *to) { ((own_t *)h)->ports[port] = to; }
static void activate(void *h) {
  own_t *o = h;
  memset(o->dry, 0, LONG * sizeof(float)); memset(o->wet, 0, LONG * sizeof(float)); o->at = 0;
}
static void run(void *h, unsigned long n) {
  own_t *o = h;
  float late = *o->ports[2];
  unsigned latency = late < 0 ? (unsigned)n : (unsigned)late, apart = (unsigned)(*o->ports[3] * o->rate);
  *o->ports[5] = (float)latency;
  for (unsigned long i = 0; i < n; i++, o->at++) {
    o->dry[o->at % LONG] = o->ports[0][i];
    float in = o->at >= latency ? o->dry[(o->at - latency) % LONG] : 0;
    float echo = apart && o->at >= apart ? o->wet[(o->at - apart) % LONG] : 0;
    o->wet[o->at % LONG] = *o->ports[4] * (in + echo);
    o->ports[1][i] = in + echo;
  }
}
static void destroy(void *h) { own_t *o = h; free(o->dry); free(o->wet); free(o); }
static const int KINDS[] = {1 | 8, 2 | 8, 1 | 4, 1 | 4, 1 | 4, 2 | 4};
static const char *NAMES[] = {"In", "Out", "Late", "Apart", "Feedback", "latency"};
static const hint_t HINTS[] = {
  {0}, {0}, {0x1 | 0x2 | 0x200, -1, 500000}, {0x1 | 0x2 | 0x200, 0, 10}, {0x1 | 0x2 | 0x200, 0, 1}, {0}
};
static const descriptor_t D = {78, "echoes", 0, "Echoes", "tests", "", 6, KINDS, NAMES, HINTS, NULL,
  instantiate, connect, activate, run, NULL, NULL, NULL, destroy};
const descriptor_t *ladspa_descriptor(unsigned long index) { return index ? NULL : &D; }
