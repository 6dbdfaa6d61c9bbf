/* A LADSPA and an LV2 plugin for the tests, in one file each by a flag: what comes out tells what the host did. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#ifdef LADSPA
#include "ladspa.h"
typedef struct { float *ports[5]; float calls; } own_t;
static void *instantiate(const descriptor_t *d, unsigned long rate) { (void)d; return rate == 7 ? NULL : calloc(1, sizeof(own_t)); }
static void connect(void *h, unsigned long port, float *to) { ((own_t *)h)->ports[port] = to; }
static void run(void *h, unsigned long n) {
  own_t *o = h;
  o->calls += 1;
  for (unsigned long i = 0; i < n; i++) o->ports[1][i] = o->ports[0][i] * *o->ports[2] + *o->ports[3];
  *o->ports[4] = 40 + o->calls;
}
/* audio in, audio out, gain (default middle of 0 … 4, so 2), offset (default 0), latency out */
static const int KINDS[] = {1 | 8, 2 | 8, 1 | 4, 1 | 4, 2 | 4};
static const char *NAMES[] = {"In", "Out", "Gain", "Offset", "latency"};
static const hint_t HINTS[] = {{0}, {0}, {0x1 | 0x2 | 0xC0, 0, 4}, {0x200, 0, 0}, {0}};
static const descriptor_t D = {4242, "gain", 0, "Test Gain", "tests", "", 5, KINDS, NAMES, HINTS, NULL,
  instantiate, connect, NULL, run, NULL, NULL, NULL, free};
const descriptor_t *ladspa_descriptor(unsigned long index) { return index ? NULL : &D; }
#endif

#ifdef LV2
typedef struct { const char *uri; void *data; } feature_t;
typedef struct { void *handle; uint32_t (*map)(void *, const char *); } map_t;
typedef struct { void *handle; int (*schedule)(void *, uint32_t, const void *); } schedule_t;
typedef struct { int (*work)(void *, int (*)(void *, uint32_t, const void *), void *, uint32_t, const void *);
                 int (*response)(void *, uint32_t, const void *); int (*end_run)(void *); } worker_t;
#include "lv2.h"
typedef struct { void *ports[6]; schedule_t *schedule; uint32_t midi; float answered, notes; int blocks; } own_t;
static void *instantiate(const lv2_t *d, double rate, const char *path, const void *const *offered) {
  const feature_t *const *features = (const feature_t *const *)offered;
  (void)d; (void)rate; (void)path;
  own_t *o = calloc(1, sizeof *o);
  for (; *features; features++) {
    if (!strcmp((*features)->uri, "http://lv2plug.in/ns/ext/worker#schedule")) o->schedule = (*features)->data;
    if (!strcmp((*features)->uri, "http://lv2plug.in/ns/ext/urid#map"))
      o->midi = ((map_t *)(*features)->data)->map(((map_t *)(*features)->data)->handle, "http://lv2plug.in/ns/ext/midi#MidiEvent");
  }
  return o;
}
static void connect(void *h, uint32_t port, void *to) { ((own_t *)h)->ports[port] = to; }
/* ports: audio in, audio out, gain, events in, events out, latency out */
static void run(void *h, uint32_t n) {
  own_t *o = h;
  uint32_t *in = o->ports[3], *out = o->ports[4];
  uint32_t at = 16, end = 8 + in[0];
  while (at < end) {
    uint32_t size = *(uint32_t *)((char *)in + at + 8), type = *(uint32_t *)((char *)in + at + 12);
    if (type == o->midi) o->notes += 1;
    at += (16 + size + 7) / 8 * 8;
  }
  float capacity = out[0];
  out[0] = 8;
  if (o->schedule && o->blocks++ == 0) o->schedule->schedule(o->schedule->handle, 5, "hello");
  float *audio_in = o->ports[0], *audio_out = o->ports[1], gain = *(float *)o->ports[2];
  for (uint32_t i = 0; i < n; i++) audio_out[i] = audio_in[i] * gain;
  /* what the host did, where a test can read it */
  if (n > 3) { audio_out[0] = o->notes; audio_out[1] = o->answered; audio_out[2] = capacity; }
  *(float *)o->ports[5] = 123;
}
static int work(void *h, int (*respond)(void *, uint32_t, const void *), void *to, uint32_t size, const void *data) {
  (void)h;
  return size == 5 && !memcmp(data, "hello", 5) ? respond(to, 4, "done") : 1;
}
static int response(void *h, uint32_t size, const void *data) { ((own_t *)h)->answered += size == 4 && !memcmp(data, "done", 4); return 0; }
static const worker_t WORKER = {work, response, NULL};
static const void *extension(const char *uri) { return strcmp(uri, "http://lv2plug.in/ns/ext/worker#interface") ? NULL : &WORKER; }
#define NAMED(name) {"urn:nimble-test:" name, instantiate, connect, NULL, run, NULL, free, extension}
static const lv2_t PLUGINS[] = {NAMED("gain"), NAMED("greedy"), NAMED("rated"), NAMED("powers")};
const lv2_t *lv2_descriptor(uint32_t index) { return index < 4 ? &PLUGINS[index] : NULL; }
#endif
