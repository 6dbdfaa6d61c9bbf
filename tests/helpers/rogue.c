/* Plugins that misbehave, and one that behaves, for the tests: CLAP 1, only what a host of ours asks for. */
#include "clap.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

typedef struct { int kind; unsigned calls; unsigned state; unsigned notes; } own_t;
enum { GOOD, CRASH, HANG, FLOOD, REFUSE, CHATTY_END, NOTES };
static const char *IDS[] = {"test.good", "test.crash", "test.hang", "test.flood", "test.refuse", "test.exit", "test.notes"};
static const char *NONE[] = {NULL};
static descriptor_t DESCRIPTORS[7];

static bool yes(const plugin_t *p) { return ((own_t *)p->data)->kind != REFUSE; }
static void reset(const plugin_t *p) { ((own_t *)p->data)->calls = 0; }
static void destroy(const plugin_t *p) { free(p->data); free((void *)p); }

static long now(void) {
  struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t);
  return t.tv_sec * 1000000000L + t.tv_nsec;
}

static int32_t process(const plugin_t *p, const process_t *b) {
  long begun = now();
  own_t *own = p->data;
  own->calls++;
  own->notes += b->in_events->size(b->in_events);
  if (own->kind == CRASH && own->calls > 3) *(volatile int *)0 = 1;
  if (own->kind == HANG && own->calls > 3) for (;;) __asm__ volatile("");
  if (own->kind == FLOOD) fprintf(stderr, "block %u of far too many, and still talking about it\n", own->calls);
  if (own->kind == CHATTY_END) { fprintf(stderr, "licence not found\n"); exit(7); }
  /* GOOD: a fixed price, one a sample, and a burst in every 16th block; louder by its state, so that loading shows. */
  long end = begun + 20000 + 20 * b->frames + (own->calls % 16 == 0 ? 100000 : 0);
  float gain = own->kind == NOTES ? (float)own->notes : 1.0f + own->state;
  for (uint32_t c = 0; c < b->out->channels; c++)
    for (uint32_t i = 0; i < b->frames; i++)
      b->out->data32[c][i] = own->kind == NOTES ? gain : b->in->data32[c][i] * gain;
  while (now() < end) {}
  return 1;
}

static uint32_t port_count(const plugin_t *p, bool input) { return ((own_t *)p->data)->kind == NOTES && input ? 0 : 1; }
static bool port_get(const plugin_t *p, uint32_t i, bool input, void *out) {
  (void)p; (void)i;
  port_t *port = out; memset(port, 0, sizeof *port);
  port->channels = input ? 3 : 2;
  return true;
}
static bool state_load(const plugin_t *p, const stream_t *s) {
  unsigned char byte = 0;
  if (s->read(s, &byte, 1) != 1 || byte == 255) return false;
  ((own_t *)p->data)->state = byte;
  return true;
}
static uint32_t latency_get(const plugin_t *p) { (void)p; return 77; }
static const ports_t PORTS = {port_count, port_get};
static const state_t STATE = {NULL, state_load};
static const latency_t LATENCY = {latency_get};
static const void *extension(const plugin_t *p, const char *id) {
  (void)p;
  if (!strcmp(id, "clap.audio-ports")) return &PORTS;
  if (!strcmp(id, "clap.state")) return &STATE;
  if (!strcmp(id, "clap.latency")) return &LATENCY;
  return NULL;
}

static uint32_t plugin_count(const void *f) { (void)f; return 7; }
static const descriptor_t *descriptor(const void *f, uint32_t i) {
  (void)f;
  descriptor_t d = {{1, 2, 0}, IDS[i], IDS[i] + 5, "tests", "", "", "", "3.1", "", NONE};
  DESCRIPTORS[i] = d;
  return &DESCRIPTORS[i];
}
static const plugin_t *create(const void *f, const void *host, const char *id) {
  (void)host;
  for (int i = 0; i < 7; i++)
    if (!strcmp(id, IDS[i])) {
      own_t *own = calloc(1, sizeof *own); own->kind = i;
      plugin_t *p = calloc(1, sizeof *p);
      plugin_t made = {descriptor(f, i), own, yes, destroy, activate, nothing, yes, nothing, reset, process, extension, nothing};
      *p = made;
      return p;
    }
  return NULL;
}
CLAP_ENTRY(plugin_count, descriptor, create)
