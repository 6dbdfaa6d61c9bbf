/* A plugin of known cost, in four standards by a flag: it waits for the clock.
   20 µs a call, 20 ns a sample (twice that with Quality), Extra µs more, 100 µs in every 16th block, 200 µs in the first
   one, 30 µs more in the second after its input ends, while it still sounds; as CLAP, 50 µs for each note that is held.
   It reports a latency of 77 samples and has none; blocks under 128 samples come out half as loud.
   By further flags, as some real ones do: ONLY_ANNOUNCED passes its input through, for nothing, in blocks of another
   size than it was told of; SLOW_ELSEWHERE takes eight times as long in them; LOADS_LATER passes through, too, until
   work that it put off is done (LV2's worker, CLAP's main thread); FAILS says in every block that it failed; MINDS_PEAKS takes 200 µs more in blocks
   with a sample beyond 0.7; HELPERS
   has two threads compute 50 µs each in every block, and waits for them; CHILD has another process do so beside;
   DECAYS takes 200 µs more for 9600 samples after a note has begun, and nothing for notes that are held; MOVES takes
   nothing, has no tail, and gives Extra percent of its input: from the sample on at which it hears so (CLAP), in a
   straight line from what it heard last (VST3), or for a block; as CLAP it is silent in its first block if it hears of
   another value there than it was switched on with; KEYED has a
   side-chain, gives its input times what that hears, truly 77 samples late, and takes 200 µs more while it hears
   something (as VST3: and its bus is switched on); COLD takes 100 µs more when it was not called for 0.6 ms; FILLS takes
   up to 200 µs more, the more of 96000 samples it has heard (as CLAP: since it was reset); HISSES adds noise of 0.01 at
   most that is never the same, and takes nothing; PERIOD=n has its bursts in
   every nth block in place of the 16th; ALONE is there only once in a process (as CLAP); GRAPHICS names a library that it loads. */
#define _GNU_SOURCE
#include <stdbool.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#ifdef DECAYS
enum { STRUCK = 9600 };
#else
enum { STRUCK = 0 };
#endif
#ifdef FILLS
enum { FULL = 96000 };
#else
enum { FULL = 0 };
#endif
#ifndef PERIOD
#define PERIOD 16
#endif
typedef struct {
  long struck, heard;
  float extra, quality; unsigned calls, held; unsigned long silent; float *ports[6];
  uint32_t announced; bool ready; const void *host; /* CLAP's host, or LV2's schedule */
  long last; const float *side; bool side_on; float line[77]; unsigned at;
} own_t;

#ifdef ONLY_ANNOUNCED
enum { ONLY = 1 };
#else
enum { ONLY = 0 };
#endif
#ifdef SLOW_ELSEWHERE
enum { SLOW = 1 };
#else
enum { SLOW = 0 };
#endif
#ifdef LOADS_LATER
enum { LATER = 1 };
#else
enum { LATER = 0 };
#endif
#ifdef FAILS
enum { FAILING = 1 };
#else
enum { FAILING = 0 };
#endif

#ifdef GRAPHICS
#include <dlfcn.h>
__attribute__((constructor)) static void compute_elsewhere(void) { dlopen(GRAPHICS, RTLD_NOW); }
#endif

static long now(void) {
  struct timespec t; clock_gettime(CLOCK_MONOTONIC, &t);
  return t.tv_sec * 1000000000L + t.tv_nsec;
}

#if defined HELPERS || defined CHILD
#include <semaphore.h>
#include <pthread.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <signal.h>
#include <unistd.h>
typedef struct { sem_t go, done; } meeting_t;
static meeting_t *MEETING;
static void *help(void *with) {
  meeting_t *m = with;
  for (;;) {
    struct timespec t;
    sem_wait(&m->go);
    clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
    long end = t.tv_sec * 1000000000L + t.tv_nsec + 50000;
    do clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t); while (t.tv_sec * 1000000000L + t.tv_nsec < end);
    sem_post(&m->done);
  }
  return NULL;
}
static void have_helped(void) {
  if (!MEETING) {
    MEETING = mmap(NULL, sizeof *MEETING, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    sem_init(&MEETING->go, 1, 0); sem_init(&MEETING->done, 1, 0);
    for (int k = 0; k < 2; k++) {
#ifdef CHILD
      if (!fork()) { prctl(PR_SET_PDEATHSIG, SIGKILL); help(MEETING); }
#else
      pthread_t made; pthread_create(&made, NULL, help, MEETING);
#endif
    }
  }
  sem_post(&MEETING->go); sem_post(&MEETING->go);
}
static void wait_for_help(void) { sem_wait(&MEETING->done); sem_wait(&MEETING->done); }
#else
static void have_helped(void) {}
static void wait_for_help(void) {}
#endif

#ifdef MINDS_PEAKS
enum { PEAKS = 1 };
#else
enum { PEAKS = 0 };
#endif
#ifdef MOVES
enum { MOVING = 1 };
#else
enum { MOVING = 0 };
#endif
/* Samples a to b, while Extra goes from what it is in a straight line to `to`, which it has at b. */
static void part(own_t *o, const float *in, float *out, uint32_t a, uint32_t b, float to) {
  for (uint32_t i = a; i < b; i++) out[i] = in[i] * (o->extra + (to - o->extra) * (i - a) / (b - a)) / 100;
  o->extra = to;
}

#ifdef KEYED
enum { LISTENS = 1 };
#else
enum { LISTENS = 0 };
#endif
static void forget(own_t *o) { memset(o->line, 0, sizeof o->line); o->at = 0; }
static void work(own_t *o, const float *in, float *out, uint32_t n) {
  if (LISTENS) {
    long end = now() + 20000 + 20L * n;
    bool hears = false;
    for (uint32_t i = 0; i < n; i++) {
      float key = o->side ? o->side[i] : 0, made = in[i] * key;
      hears |= key != 0;
      out[i] = o->line[o->at]; o->line[o->at] = made; o->at = (o->at + 1) % 77;
    }
    if (hears) end += 200000;
    while (now() < end) {}
    return;
  }
#ifdef HISSES
  unsigned seed = (unsigned)now();
  for (uint32_t i = 0; i < n; i++) out[i] = in[i] + 0.02f * ((float)rand_r(&seed) / (float)RAND_MAX - 0.5f);
  return;
#endif
  if (MOVING) { part(o, in, out, 0, n, o->extra); return; }
#ifdef COLD
  bool cold = o->last && now() - o->last > 600000;
#else
  bool cold = false;
#endif
  bool other = o->announced && n != o->announced;
  if ((ONLY && other) || (LATER && !o->ready)) { memcpy(out, in, n * sizeof *out); return; }
  long end = now() + 20000 + (o->quality > 0.5f ? 40 : 20) * (long)n + (long)(o->extra * 1000);
  if (cold) end += 100000;
  if (SLOW && other) end += 7 * (20000 + 20L * n);
  end += STRUCK ? (o->struck > 0) * 200000L : 50000L * o->held;
  o->struck -= n;
  if (o->calls++ == 0) end += 200000;
  if (o->calls % PERIOD == 0) end += 100000;
  if (FULL) end += 200000L * o->heard / FULL;
  bool heard = false;
  bool high = false;
  for (uint32_t i = 0; i < n; i++) { heard |= in[i] != 0; high |= in[i] > 0.7f || in[i] < -0.7f; }
  if (PEAKS && high) end += 200000;
  o->silent = heard ? 0 : o->silent + n;
  o->heard += heard && o->heard < FULL ? n : 0;
  bool tail = !heard && o->silent < 48000;
  if (tail) end += 30000;
  float gain = n < 128 ? 0.5f : 1.0f;
  for (uint32_t i = 0; i < n; i++) out[i] = tail ? 0.01f : in[i] * gain;
  have_helped();
  while (now() < end) {}
  wait_for_help();
  o->last = now();
}

#if defined LADSPA
#include "ladspa.h"
static void *instantiate(const descriptor_t *d, unsigned long rate) { (void)d; (void)rate; return calloc(1, sizeof(own_t)); }
static void connect(void *h, unsigned long port, float *to) { ((own_t *)h)->ports[port] = to; }
static void run(void *h, unsigned long n) {
  own_t *o = h;
  o->extra = *o->ports[2]; o->quality = *o->ports[3]; *o->ports[4] = 77; o->side = o->ports[5];
  work(o, o->ports[0], o->ports[1], n);
}
static const int KINDS[] = {1 | 8, 2 | 8, 1 | 4, 1 | 4, 2 | 4, 1 | 8};
static const char *NAMES[] = {"In", "Out", "Extra", "Quality", "latency", "Side-chain in"};
static const hint_t HINTS[] = {{0}, {0}, {0x1 | 0x2 | 0x200, 0, 100}, {0x4 | 0x200, 0, 1}, {0}, {0}};
static const descriptor_t D = {77, "known", 0, "Known", "tests", "", 5 + LISTENS, KINDS, NAMES, HINTS, NULL,
  instantiate, connect, NULL, run, NULL, NULL, NULL, free};
const descriptor_t *ladspa_descriptor(unsigned long index) { return index ? NULL : &D; }

#elif defined LV2
#include "lv2.h"
typedef struct { const char *uri; void *data; } feature_t;
typedef struct { void *handle; uint32_t (*map)(void *, const char *); } map_t;
typedef struct { void *handle; int (*schedule)(void *, uint32_t, const void *); } schedule_t;
typedef struct { int context; uint32_t subject, key, size, type; const void *value; } option_t;
static void *instantiate(const lv2_t *d, double rate, const char *path, const void *const *features) {
  (void)d; (void)rate; (void)path;
  own_t *o = calloc(1, sizeof(own_t));
  const map_t *map = NULL; const option_t *options = NULL;
  for (const feature_t *const *f = (const feature_t *const *)features; *f; f++) {
    if (!strcmp((*f)->uri, "http://lv2plug.in/ns/ext/urid#map")) map = (*f)->data;
    if (!strcmp((*f)->uri, "http://lv2plug.in/ns/ext/options#options")) options = (*f)->data;
    if (!strcmp((*f)->uri, "http://lv2plug.in/ns/ext/worker#schedule")) o->host = (*f)->data;
  }
  uint32_t wanted = map->map(map->handle, "http://lv2plug.in/ns/ext/buf-size#nominalBlockLength");
  for (; options->key; options++) if (options->key == wanted) o->announced = *(const int32_t *)options->value;
  return o;
}
static int work_later(void *h, int (*respond)(void *, uint32_t, const void *), void *to, uint32_t n, const void *data) {
  (void)h; (void)n; (void)data;
  return respond(to, 4, "done");
}
static int answered(void *h, uint32_t n, const void *data) { (void)n; (void)data; ((own_t *)h)->ready = true; return 0; }
static const struct { void *work, *response, *end; } WORKER = {work_later, answered, NULL};
static const void *extension(const char *uri) {
  return LATER && !strcmp(uri, "http://lv2plug.in/ns/ext/worker#interface") ? &WORKER : NULL;
}
static void connect(void *h, uint32_t port, void *to) { ((own_t *)h)->ports[port] = to; }
static void run(void *h, uint32_t n) {
  own_t *o = h;
  const schedule_t *schedule = o->host;
  if (LATER && !o->ready) schedule->schedule(schedule->handle, 4, "load");
  o->extra = *o->ports[2]; o->quality = *o->ports[3]; *o->ports[4] = 77; o->side = o->ports[5];
  work(o, o->ports[0], o->ports[1], n);
}
static const lv2_t PLUGIN = {"urn:nimble-test:known", instantiate, connect, NULL, run, NULL, free, extension};
const lv2_t *lv2_descriptor(uint32_t index) { return index ? NULL : &PLUGIN; }

#elif defined CLAP
#include "clap.h"
#define OWN(p) ((own_t *)(p)->data)
static bool yes(const plugin_t *p) { (void)p; return true; }
static void reset(const plugin_t *p) { OWN(p)->calls = OWN(p)->held = 0; OWN(p)->silent = 0; OWN(p)->struck = OWN(p)->heard = 0; forget(OWN(p)); }
static void destroy(const plugin_t *p) { free(p->data); free((void *)p); }
static void take(const plugin_t *p, const events_t *e) {
  for (uint32_t i = 0; i < e->size(e); i++) {
    const value_t *v = (const value_t *)e->get(e, i);
    if (v->header.type == 0) { OWN(p)->held++; OWN(p)->struck = STRUCK; }
    if (v->header.type == 1 && OWN(p)->held) OWN(p)->held--;
    if (v->header.type == 5) *(v->param == 10 ? &OWN(p)->extra : &OWN(p)->quality) = (float)v->value;
  }
}
static int32_t process(const plugin_t *p, const process_t *b) {
  if (MOVING) {
    const float *in = b->in->data32[0]; float *out = b->out->data32[0]; uint32_t at = 0;
    float started = OWN(p)->extra;
    for (uint32_t i = 0; i < b->in_events->size(b->in_events); i++) {
      const value_t *v = (const value_t *)b->in_events->get(b->in_events, i);
      part(OWN(p), in, out, at, v->header.time, OWN(p)->extra);
      at = v->header.time;
      if (v->header.type == 5 && v->param == 10) OWN(p)->extra = (float)v->value;
    }
    part(OWN(p), in, out, at, b->frames, OWN(p)->extra);
    if (OWN(p)->calls++ == 0 && OWN(p)->extra != started) memset(out, 0, b->frames * sizeof *out);
    return 1;
  }
  take(p, b->in_events);
  if (LISTENS) OWN(p)->side = b->in[1].data32[0];
  work(OWN(p), b->in->data32[0], b->out->data32[0], b->frames);
  return FAILING ? 0 : 1;
}
typedef struct { version_t v; void *data; const char *texts[4]; void *extension, *restart, *process; void (*callback)(const void *); } host_t;
static bool switch_on(const plugin_t *p, double rate, uint32_t least, uint32_t most) {
  (void)rate; (void)least;
  OWN(p)->announced = most;
  OWN(p)->ready = false;
  if (LATER) ((const host_t *)OWN(p)->host)->callback(OWN(p)->host);
  return true;
}
static void on_main(const plugin_t *p) { OWN(p)->ready = true; }
static uint32_t port_count(const plugin_t *p, bool in) { (void)p; return 1 + (in && LISTENS); }
static bool port_get(const plugin_t *p, uint32_t i, bool in, void *to) {
  (void)p; (void)in;
  port_t *port = to; memset(port, 0, sizeof *port); port->channels = 1; port->flags = LISTENS && !i;
  return true;
}
typedef struct { uint32_t id, flags; void *cookie; char name[256], module[1024]; double least, most, start; } param_t;
static uint32_t param_count(const plugin_t *p) { (void)p; return 2; }
static bool param_info(const plugin_t *p, uint32_t i, param_t *to) {
  (void)p; memset(to, 0, sizeof *to);
  to->id = 10 + i; to->flags = i; strcpy(to->name, i ? "Quality" : "Extra"); to->most = i ? 1 : 100;
  return true;
}
static bool param_value(const plugin_t *p, uint32_t id, double *to) { *to = id == 10 ? OWN(p)->extra : OWN(p)->quality; return true; }
static void flush(const plugin_t *p, const events_t *in, const void *out) { (void)out; take(p, in); }
static uint32_t latency_get(const plugin_t *p) { (void)p; return 77; }
static const ports_t PORTS = {port_count, port_get};
static const struct { uint32_t (*count)(const plugin_t *); bool (*get)(const plugin_t *, uint32_t, param_t *);
  bool (*value)(const plugin_t *, uint32_t, double *); void *to_text, *to_value;
  void (*flush)(const plugin_t *, const events_t *, const void *); } PARAMS = {param_count, param_info, param_value, NULL, NULL, flush};
static const struct { uint32_t (*get)(const plugin_t *); } LATENCY = {latency_get};
static const void *extension(const plugin_t *p, const char *id) {
  (void)p;
  if (!strcmp(id, "clap.audio-ports")) return &PORTS;
  if (!strcmp(id, "clap.params")) return &PARAMS;
  if (!strcmp(id, "clap.latency")) return &LATENCY;
  return NULL;
}
static const char *NONE[] = {"compressor", NULL};
static const descriptor_t D = {{1, 2, 0}, "test.known", "Known", "tests", "", "", "", "1", "", NONE};
static uint32_t plugin_count(const void *f) { (void)f; return 1; }
static const descriptor_t *descriptor(const void *f, uint32_t i) { (void)f; (void)i; return &D; }
static const plugin_t *create(const void *f, const void *host, const char *id) {
  (void)f;
  if (strcmp(id, D.id)) return NULL;
#ifdef ALONE
  static int there;
  if (there++) return NULL;
#endif
  plugin_t *p = calloc(1, sizeof *p);
  plugin_t made = {&D, calloc(1, sizeof(own_t)), yes, destroy, switch_on, nothing, yes, nothing, reset, process, extension, on_main};
  *p = made;
  OWN(p)->host = host;
  return p;
}
CLAP_ENTRY(plugin_count, descriptor, create)

#elif defined VST3
typedef int32_t result;
typedef struct { void **component, **processor, **controller; own_t own; } object;
#define FROM(this, field) ((object *)((char *)(this) - offsetof(object, field)))
#include <stddef.h>
static const uint8_t COMPONENT[16] = {0xE8,0x31,0xFF,0x31,0xF2,0xD5,0x43,0x01,0x92,0x8E,0xBB,0xEE,0x25,0x69,0x78,0x02};
static const uint8_t PROCESSOR[16] = {0x42,0x04,0x3F,0x99,0xB7,0xDA,0x45,0x3C,0xA5,0x69,0xE7,0x9D,0x9A,0xAE,0xC3,0x3D};
static const uint8_t CONTROLLER[16] = {0xDC,0xD7,0xBB,0xE3,0x77,0x42,0x44,0x8D,0xA8,0x74,0xAA,0xCC,0x97,0x9C,0x75,0x9E};
static const uint8_t CLASS[16] = "nimbletestknown";
static result find(object *o, const uint8_t *iid, void **to) {
  *to = !memcmp(iid, COMPONENT, 16) ? (void *)&o->component : !memcmp(iid, PROCESSOR, 16) ? (void *)&o->processor
      : !memcmp(iid, CONTROLLER, 16) ? (void *)&o->controller : NULL;
  return *to ? 0 : -1;
}
static result find_c(void *t, const uint8_t *i, void **to) { return find(FROM(t, component), i, to); }
static result find_p(void *t, const uint8_t *i, void **to) { return find(FROM(t, processor), i, to); }
static result find_e(void *t, const uint8_t *i, void **to) { return find(FROM(t, controller), i, to); }
static uint32_t one(void *t) { (void)t; return 1; }
static result ok(void *t) { (void)t; return 0; }
static result no(void *t) { (void)t; return -1; }
static result bus_count(void *t, int32_t media, int32_t direction) { (void)t; return media ? 0 : 1 + (LISTENS && direction == 0); }
typedef struct { int32_t media, direction, channels; uint16_t name[128]; int32_t kind; uint32_t flags; } bus_t;
static result bus_info(void *t, int32_t m, int32_t d, int32_t i, bus_t *b) {
  (void)t; memset(b, 0, sizeof *b); b->media = m; b->direction = d; b->channels = 1; b->kind = i; return 0;
}
static result activate(void *t, int32_t media, int32_t direction, int32_t i, uint8_t on) {
  if (!media && !direction && i) FROM(t, component)->own.side_on = on;
  return 0;
}
static result set_active(void *t, uint8_t on) { if (on) { forget(&FROM(t, component)->own); FROM(t, component)->own.calls = 0; FROM(t, component)->own.silent = 0; } return 0; }
static uint32_t latency_get(void *t) { (void)t; return 77; }
typedef struct { int32_t channels; uint64_t silence; float **data; } buffers_t;
typedef struct queue { const struct queue_v *v; } queue_t;
struct queue_v { void *base[3]; uint32_t (*id)(queue_t *); int32_t (*points)(queue_t *); result (*point)(queue_t *, int32_t, int32_t *, double *); };
typedef struct changes { const struct changes_v *v; } changes_t;
struct changes_v { void *base[3]; int32_t (*count)(changes_t *); queue_t *(*at)(changes_t *, int32_t); };
typedef struct { int32_t mode, size, frames, ins, outs; buffers_t *in, *out; changes_t *changes; } block_t;
typedef struct { int32_t mode, size, most; double rate; } setup_t;
static result set_up(void *t, setup_t *s) { FROM(t, processor)->own.announced = s->most; return 0; }
static result process(void *t, block_t *b) {
  own_t *o = &FROM(t, processor)->own;
  if (MOVING && b->changes && b->changes->v->count(b->changes)) {
    queue_t *q = b->changes->v->at(b->changes, 0);
    int32_t at = 0, offset; double value;
    for (int32_t k = 0; k < q->v->points(q); k++) {
      q->v->point(q, k, &offset, &value);
      part(o, b->in->data[0], b->out->data[0], at, offset, (float)value * 100);
      o->extra = (float)value * 100;
      at = offset;
    }
    part(o, b->in->data[0], b->out->data[0], at, b->frames, o->extra);
    return 0;
  }
  for (int32_t i = 0; b->changes && i < b->changes->v->count(b->changes); i++) {
    queue_t *q = b->changes->v->at(b->changes, i);
    int32_t offset; double value;
    q->v->point(q, q->v->points(q) - 1, &offset, &value);
    if (q->v->id(q) == 10) o->extra = (float)value * 100; else o->quality = (float)value;
  }
  if (LISTENS) o->side = o->side_on ? b->in[1].data[0] : NULL;
  work(o, b->in->data[0], b->out->data[0], b->frames);
  return FAILING ? -1 : 0;
}
typedef struct { uint32_t id; uint16_t title[128], shorter[128], unit[128]; int32_t steps; double start; int32_t group, flags; } param_t;
static int32_t param_count(void *t) { (void)t; return 2; }
static result param_info(void *t, int32_t i, param_t *p) {
  (void)t; memset(p, 0, sizeof *p);
  const char *name = i ? "Quality" : "Extra";
  for (int k = 0; name[k]; k++) p->title[k] = name[k];
  p->id = 10 + i; p->steps = i;
  return 0;
}
static double param_get(void *t, uint32_t id) { own_t *o = &FROM(t, controller)->own; return id == 10 ? o->extra / 100 : o->quality; }
static void *COMPONENT_V[] = {find_c, one, one, ok, ok, no, ok, bus_count, bus_info, no, activate, set_active, ok, ok};
static void *PROCESSOR_V[] = {find_p, one, one, ok, no, ok, latency_get, set_up, ok, process, ok};
static void *CONTROLLER_V[] = {find_e, one, one, ok, ok, ok, ok, ok, param_count, param_info, no, no, no, no, param_get, no, no, no};
static result factory_find(void *t, const void *i, void **to) { (void)t; (void)i; *to = NULL; return -1; }
typedef struct { char cid[16]; int32_t cardinality; char category[32], name[64]; } class_t;
static result class_info(void *t, int32_t i, class_t *c) {
  (void)t; (void)i; memset(c, 0, sizeof *c);
  memcpy(c->cid, CLASS, 16); strcpy(c->category, "Audio Module Class"); strcpy(c->name, "Known");
  return 0;
}
static result create(void *t, const char *cid, const uint8_t *iid, void **to) {
  (void)t;
  if (memcmp(cid, CLASS, 16)) { *to = NULL; return -1; }
  object *o = calloc(1, sizeof *o);
  o->component = COMPONENT_V; o->processor = PROCESSOR_V; o->controller = CONTROLLER_V;
  return find(o, iid, to);
}
static void *FACTORY_V[] = {factory_find, one, one, no, one, class_info, create};
static void **FACTORY = FACTORY_V;
bool ModuleEntry(void *library) { (void)library; return true; }
bool ModuleExit(void) { return true; }
void *GetPluginFactory(void) { return &FACTORY; }
#endif
