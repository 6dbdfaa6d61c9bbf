/* A plugin for the tests that needs its host: as CLAP, VST3 or LV2 by a flag. What it met there is what it puts out, a
   figure a sample. Without what it needs it does not start. */
#include <math.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

typedef struct { float pooled, timers, files, mains, latency, main_in_init; int blocks, pipe[2]; const void *host; } own_t;

#ifdef CLAP
#include "clap.h"
typedef struct host {
  version_t v; void *data; const char *name, *vendor, *url, *version;
  const void *(*extension)(const struct host *, const char *);
  void (*restart)(const struct host *); void (*process)(const struct host *); void (*callback)(const struct host *);
} host_t;
typedef struct {
  header_t header; uint32_t flags; int64_t beats, seconds; double tempo, step; int64_t loop[4], bar_start; int32_t bar;
  uint16_t top, bottom;
} transport_t;
#define OWN(p) ((own_t *)(p)->data)
#define HOST(p) ((const host_t *)OWN(p)->host)
#define ASK(p, id, kind) ((const kind *)HOST(p)->extension(HOST(p), id))
typedef struct { bool (*main)(const host_t *), (*audio)(const host_t *); } check_t;
typedef struct { bool (*exec)(const host_t *, uint32_t); } pool_t;
typedef struct { bool (*add)(const host_t *, uint32_t, uint32_t *), (*end)(const host_t *, uint32_t); } timers_t;
typedef struct { bool (*add)(const host_t *, int, uint32_t), (*change)(const host_t *, int, uint32_t), (*end)(const host_t *, int); } files_t;
typedef struct { void (*log)(const host_t *, int32_t, const char *); } log_t;
typedef struct { void (*changed)(const host_t *); } changed_t;
typedef struct { uint32_t (*dialects)(const host_t *); void (*rescan)(const host_t *, uint32_t); } note_host_t;
static const char *NEEDED[] = {"clap.log", "clap.thread-check", "clap.thread-pool", "clap.latency", "clap.tail", "clap.params", "clap.state",
  "clap.audio-ports", "clap.note-ports", "clap.timer-support", "clap.posix-fd-support"};
static bool init(const plugin_t *p) {
  for (unsigned k = 0; k < sizeof NEEDED / sizeof *NEEDED; k++) if (!HOST(p)->extension(HOST(p), NEEDED[k])) return false;
  if (HOST(p)->extension(HOST(p), "clap.nobody-has-this") || HOST(p)->extension(HOST(p), "clap.lo")) return false;
  const check_t *check = ASK(p, "clap.thread-check", check_t);
  OWN(p)->main_in_init = check->main(HOST(p)) && !check->audio(HOST(p));
  uint32_t number;
  if (pipe(OWN(p)->pipe) || !ASK(p, "clap.timer-support", timers_t)->add(HOST(p), 10, &number)) return false;
  ASK(p, "clap.log", log_t)->log(HOST(p), 1, "hello");
  return ASK(p, "clap.posix-fd-support", files_t)->add(HOST(p), OWN(p)->pipe[0], 1)
      && ASK(p, "clap.note-ports", note_host_t)->dialects(HOST(p)) == 3;
}
static int32_t process(const plugin_t *p, const process_t *b) {
  own_t *o = OWN(p);
  const check_t *check = ASK(p, "clap.thread-check", check_t);
  const transport_t *t = b->transport;
  float *out = b->out->data32[0];
  o->pooled = 0;
  bool shared = ASK(p, "clap.thread-pool", pool_t)->exec(HOST(p), 4);
  if (o->blocks++ == 0) { HOST(p)->callback(HOST(p)); if (write(o->pipe[1], "x", 1) != 1) return 0; }
  memset(out, 0, 4 * b->frames);
  float facts[] = {check->audio(HOST(p)) && !check->main(HOST(p)), shared ? o->pooled : -1, t ? t->tempo : 0,
    t ? t->beats / 2147483648.0 : -1, t ? t->seconds / 2147483648.0 : -1, t ? t->flags : 0, t ? t->bar : -1, t ? t->bar_start / 2147483648.0 : -1,
    o->main_in_init, o->timers, o->files, o->mains};
  memcpy(out, facts, sizeof facts);
  return 1;
}
static void task(const plugin_t *p, uint32_t k) { OWN(p)->pooled += k + 1; }
static void on_timer(const plugin_t *p, uint32_t k) { (void)k; OWN(p)->timers += 1; }
static void on_file(const plugin_t *p, int file, uint32_t came) { char c; if (came & 1 && read(file, &c, 1) == 1) OWN(p)->files += 1; }
static void on_main(const plugin_t *p) { OWN(p)->mains += 1; OWN(p)->latency = 99; ASK(p, "clap.latency", changed_t)->changed(HOST(p)); }
static uint32_t latency_get(const plugin_t *p) { return OWN(p)->latency; }
static uint32_t port_count(const plugin_t *p, bool input) { (void)p; (void)input; return 1; }
static bool port_get(const plugin_t *p, uint32_t i, bool input, void *to) { (void)p; (void)i; (void)input; port_t *q = to; memset(q, 0, sizeof *q); q->channels = 1; return true; }
static const ports_t PORTS = {port_count, port_get};
static const latency_t LATENCY = {latency_get};
static const struct { void (*f)(const plugin_t *, uint32_t); } POOL = {task}, TIMERS = {on_timer};
static const struct { void (*f)(const plugin_t *, int, uint32_t); } FILES = {on_file};
static const void *extension(const plugin_t *p, const char *id) {
  (void)p;
  return !strcmp(id, "clap.audio-ports") ? (void *)&PORTS : !strcmp(id, "clap.latency") ? (void *)&LATENCY : !strcmp(id, "clap.thread-pool") ? (void *)&POOL
      : !strcmp(id, "clap.timer-support") ? (void *)&TIMERS : !strcmp(id, "clap.posix-fd-support") ? (void *)&FILES : NULL;
}
static bool start(const plugin_t *p) { (void)p; return true; }
static const char *NONE[] = {NULL};
static const descriptor_t D = {{1, 2, 0}, "test.meets", "Meets", "tests", "", "", "", "1", "", NONE};
static uint32_t plugin_count(const void *f) { (void)f; return 1; }
static const descriptor_t *descriptor(const void *f, uint32_t i) { (void)f; (void)i; return &D; }
static const plugin_t *create(const void *f, const void *host, const char *id) {
  (void)f;
  if (strcmp(id, "test.meets")) return NULL;
  plugin_t *p = calloc(1, sizeof *p);
  own_t *o = calloc(1, sizeof *o);
  o->host = host; o->latency = 77;
  *p = (plugin_t){&D, o, init, nothing, activate, nothing, start, nothing, nothing, process, extension, on_main};
  return p;
}
CLAP_ENTRY(plugin_count, descriptor, create)
#endif

#ifdef VST3
#include <stdbool.h>
#include <stddef.h>
typedef int32_t result;
typedef struct unknown { result (**v)(); } unknown;
/* The component with the processor, and a controller of its own, which are to be joined. */
typedef struct object { void **component, **processor, **point; unknown *other; int32_t channels; int asked; } object;
typedef struct control { void **controller, **point; unknown *other, *handler; int told; } control;
#define FROM(this, kind, field) ((kind *)((char *)(this) - offsetof(kind, field)))
#define ID(a, b, c, d) {(a) >> 24, (a) >> 16 & 255, (a) >> 8 & 255, (a) & 255, (b) >> 24, (b) >> 16 & 255, (b) >> 8 & 255, (b) & 255, \
  (c) >> 24, (c) >> 16 & 255, (c) >> 8 & 255, (c) & 255, (d) >> 24, (d) >> 16 & 255, (d) >> 8 & 255, (d) & 255}
static const uint8_t COMPONENT[] = ID(0xE831FF31u, 0xF2D54301u, 0x928EBBEEu, 0x25697802u), PROCESSOR[] = ID(0x42043F99u, 0xB7DA453Cu, 0xA569E79Du, 0x9AAEC33Du),
  CONTROLLER[] = ID(0xDCD7BBE3u, 0x7742448Du, 0xA874AACCu, 0x979C759Eu), POINT[] = ID(0x70A4156Fu, 0x6E6E4026u, 0x989148BFu, 0xAA60D8D1u),
  APPLICATION[] = ID(0x58E595CCu, 0xDB2D4969u, 0x8B6AAF8Cu, 0x36A664E5u), MESSAGE[] = ID(0x936F033Bu, 0xC6C047DBu, 0xBB0882F8u, 0x13C1E613u);
static const uint8_t CLASS[16] = "nimbletestmeets", CONTROL_CLASS[16] = "nimbletestmeet2";
static unknown *APP, *HANDLER;
static object *MADE;
static int CONTROL_JOINED;
static uint32_t one(void *t) { (void)t; return 1; }
static result ok(void *t) { (void)t; return 0; }
static result no(void *t) { (void)t; return -1; }
static result message(void **to) { return ((result (*)(void *, const uint8_t *, const uint8_t *, void **))APP->v[4])(APP, MESSAGE, MESSAGE, to); }
static result initialize(void *t, unknown *context) {
  (void)t;
  if (!context || ((result (*)(void *, const uint8_t *, void **))context->v[0])(context, APPLICATION, (void **)&APP) || !APP) return -1;
  unknown *m = NULL;
  if (message((void **)&m) || !m) return -1;
  ((void (*)(void *, const char *))m->v[4])(m, "greeting");
  unknown *list = ((unknown *(*)(void *))m->v[5])(m);
  int64_t value = 0;
  ((result (*)(void *, const char *, int64_t))list->v[3])(list, "x", 42);
  ((result (*)(void *, const char *, int64_t *))list->v[4])(list, "x", &value);
  return value == 42 && !strcmp(((const char *(*)(void *))m->v[3])(m), "greeting") ? 0 : -1;
}
static result find(object *o, const uint8_t *iid, void **to) {
  *to = !memcmp(iid, COMPONENT, 16) ? (void *)&o->component : !memcmp(iid, PROCESSOR, 16) ? (void *)&o->processor
      : !memcmp(iid, POINT, 16) ? (void *)&o->point : NULL;
  return *to ? 0 : -1;
}
static result find_c(void *t, const uint8_t *i, void **to) { return find(FROM(t, object, component), i, to); }
static result find_p(void *t, const uint8_t *i, void **to) { return find(FROM(t, object, processor), i, to); }
static result find_q(void *t, const uint8_t *i, void **to) { return find(FROM(t, object, point), i, to); }
static result join(void *t, unknown *other) { FROM(t, object, point)->other = other; return 0; }
static result find_2(control *o, const uint8_t *iid, void **to) {
  *to = !memcmp(iid, CONTROLLER, 16) ? (void *)&o->controller : !memcmp(iid, POINT, 16) ? (void *)&o->point : NULL;
  return *to ? 0 : -1;
}
static result find_e(void *t, const uint8_t *i, void **to) { return find_2(FROM(t, control, controller), i, to); }
static result find_f(void *t, const uint8_t *i, void **to) { return find_2(FROM(t, control, point), i, to); }
static result join_2(void *t, unknown *other) { (void)t; CONTROL_JOINED = other != NULL; return 0; }
static result take_handler(void *t, unknown *h) { (void)t; HANDLER = h; return 0; }
static result state_told(void *t, void *stream) {
  (void)t; (void)stream;
  /* The delay is another one from now on. */
  if (HANDLER) ((result (*)(void *, int32_t))HANDLER->v[6])(HANDLER, 1 << 3);
  return 0;
}
static result controller_id(void *t, uint8_t *to) { (void)t; memcpy(to, CONTROL_CLASS, 16); return 0; }
static result bus_count(void *t, int32_t media, int32_t d) { (void)t; (void)d; return media == 0; }
typedef struct { int32_t media, direction, channels; uint16_t name[128]; int32_t kind; uint32_t flags; } bus_t;
static result bus_info(void *t, int32_t m, int32_t d, int32_t i, bus_t *b) {
  (void)i; memset(b, 0, sizeof *b); b->media = m; b->direction = d; b->channels = FROM(t, object, component)->channels; return 0;
}
static result arrange(void *t, uint64_t *in, int32_t ins, uint64_t *out, int32_t outs) {
  if (ins != 1 || outs != 1 || *in != *out) return 1;
  FROM(t, object, processor)->channels = *in == 3 ? 2 : *in == 1 << 19 ? 1 : 0;
  return FROM(t, object, processor)->channels ? 0 : 1;
}
static result arrangement(void *t, int32_t d, int32_t i, uint64_t *to) { (void)t; (void)d; (void)i; *to = 3; return 0; }
static uint32_t latency_get(void *t) { return FROM(t, object, processor)->asked++ ? 99 : 77; }
static result get_state(void *t, unknown *stream) {
  (void)t; int32_t done; char byte = 1;
  return ((result (*)(void *, void *, int32_t, int32_t *))stream->v[4])(stream, &byte, 1, &done);
}
typedef struct { uint32_t state; double rate; int64_t samples, system, going_on; double beats, bar, from, to, tempo; int32_t top, bottom; } context_t;
typedef struct { int32_t channels; uint64_t silence; float **data; } buffers_t;
typedef struct { int32_t mode, size, frames, ins, outs; buffers_t *in, *out; void *a, *b, *c, *d; context_t *context; } block_t;
static result process(void *t, block_t *b) {
  object *o = FROM(t, object, processor);
  void *m = (void *)1;
  result refused = message(&m);
  context_t *x = b->context;
  memset(b->out->data[0], 0, 4 * b->frames);
  float facts[] = {o->other != NULL, CONTROL_JOINED, HANDLER != NULL, refused != 0 && m == NULL, x ? x->tempo : 0, x ? x->beats : -1, x ? x->samples : -1,
    x ? (x->state & 2) != 0 : 0, x ? x->rate : 0, x ? x->bar : -1, x ? x->top : 0, o->channels, b->out->channels};
  if (b->frames >= 13) memcpy(b->out->data[0], facts, sizeof facts);
  return 0;
}
static int32_t none(void *t) { (void)t; return 0; }
static void *COMPONENT_V[] = {find_c, one, one, initialize, ok, controller_id, ok, bus_count, bus_info, no, ok, ok, ok, get_state};
static void *PROCESSOR_V[] = {find_p, one, one, arrange, arrangement, ok, latency_get, ok, ok, process, ok};
static void *POINT_V[] = {find_q, one, one, join, ok, ok}, *POINT_2_V[] = {find_f, one, one, join_2, ok, ok};
static void *CONTROLLER_V[] = {find_e, one, one, initialize, ok, state_told, ok, no, none, no, no, no, no, no, no, no, take_handler, no};
static result factory_find(void *t, const void *i, void **to) { (void)t; (void)i; *to = NULL; return -1; }
typedef struct { char cid[16]; int32_t cardinality; char category[32], name[64]; } class_t;
static result class_info(void *t, int32_t i, class_t *c) {
  (void)t; memset(c, 0, sizeof *c);
  memcpy(c->cid, i ? CONTROL_CLASS : CLASS, 16);
  strcpy(c->category, i ? "Component Controller Class" : "Audio Module Class"); strcpy(c->name, "Meets");
  return 0;
}
static int32_t two(void *t) { (void)t; return 2; }
static result create(void *t, const char *cid, const uint8_t *iid, void **to) {
  (void)t; *to = NULL;
  if (!memcmp(cid, CONTROL_CLASS, 16)) {
    control *k = calloc(1, sizeof *k);
    k->controller = CONTROLLER_V; k->point = POINT_2_V;
    return find_2(k, iid, to);
  }
  if (memcmp(cid, CLASS, 16)) return -1;
  object *o = MADE = calloc(1, sizeof *o);
  o->component = COMPONENT_V; o->processor = PROCESSOR_V; o->point = POINT_V; o->channels = 2;
  return find(o, iid, to);
}
static void *FACTORY_V[] = {factory_find, one, one, no, two, class_info, create};
static void **FACTORY = FACTORY_V;
bool ModuleEntry(void *library) { (void)library; return true; }
bool ModuleExit(void) { return true; }
void *GetPluginFactory(void) { return &FACTORY; }
#endif

#ifdef LV2
#include "lv2.h"
typedef struct { const char *uri; void *data; } feature_t;
typedef struct { void *handle; uint32_t (*map)(void *, const char *); } map_t;
typedef struct { void *handle; int (*print)(void *, uint32_t, const char *, ...); } log_t;
typedef struct { void *ports[3]; uint32_t gain_key, position, tempo_key, frame_key, speed_key, object, bar_keys[4]; float gain; log_t *log; int had_default; float logged; } met_t;
static void *instantiate(const lv2_t *d, double rate, const char *path, const void *const *offered) {
  (void)d; (void)rate; (void)path;
  met_t *o = calloc(1, sizeof *o);
  for (const feature_t *const *f = (const feature_t *const *)offered; *f; f++) {
    if (!strcmp((*f)->uri, "http://lv2plug.in/ns/ext/urid#map")) {
      map_t *m = (*f)->data;
      o->gain_key = m->map(m->handle, "urn:nimble-test:gain");
      o->position = m->map(m->handle, "http://lv2plug.in/ns/ext/time#Position");
      o->bar_keys[0] = m->map(m->handle, "http://lv2plug.in/ns/ext/time#bar"), o->bar_keys[1] = m->map(m->handle, "http://lv2plug.in/ns/ext/time#barBeat");
      o->bar_keys[2] = m->map(m->handle, "http://lv2plug.in/ns/ext/time#beatUnit"), o->bar_keys[3] = m->map(m->handle, "http://lv2plug.in/ns/ext/time#beatsPerBar");
      o->tempo_key = m->map(m->handle, "http://lv2plug.in/ns/ext/time#beatsPerMinute");
      o->frame_key = m->map(m->handle, "http://lv2plug.in/ns/ext/time#frame");
      o->speed_key = m->map(m->handle, "http://lv2plug.in/ns/ext/time#speed");
      o->object = m->map(m->handle, "http://lv2plug.in/ns/ext/atom#Object");
    }
    if (!strcmp((*f)->uri, "http://lv2plug.in/ns/ext/log#log")) o->log = (*f)->data;
    if (!strcmp((*f)->uri, "http://lv2plug.in/ns/ext/state#loadDefaultState")) o->had_default = 1;
  }
  if (!o->log || !o->had_default) return NULL;
  o->logged = o->log->print(o->log->handle, 1, "%s %d %f", "hello", 1, 2.0) == 0;
  return o;
}
static void connect(void *h, uint32_t port, void *to) { ((met_t *)h)->ports[port] = to; }
/* ports: audio in, audio out, events in */
static void run(void *h, uint32_t n) {
  met_t *o = h;
  uint32_t *in = o->ports[2];
  float *out = o->ports[1], positions = 0, tempo = 0, frame = -1, speed = 0, events = 0, bars[4] = {0};
  for (uint32_t at = 16, end = 8 + in[0]; at < end;) {
    uint32_t size = *(uint32_t *)((char *)in + at + 8), type = *(uint32_t *)((char *)in + at + 12);
    char *body = (char *)in + at + 16;
    events += 1;
    if (type == o->object && ((uint32_t *)body)[1] == o->position) {
      positions += 1;
      for (uint32_t k = 8; k < size;) {
        uint32_t *property = (uint32_t *)(body + k);
        if (property[0] == o->tempo_key) tempo = *(float *)(property + 4);
        if (property[0] == o->bar_keys[0]) bars[0] = (float)*(int64_t *)(property + 4);
        if (property[0] == o->bar_keys[2]) bars[2] = (float)*(int32_t *)(property + 4);
        for (int k = 1; k < 4; k += 2) if (property[0] == o->bar_keys[k]) bars[k] = *(float *)(property + 4);
        if (property[0] == o->speed_key) speed = *(float *)(property + 4);
        if (property[0] == o->frame_key) frame = *(int64_t *)(property + 4);
        k += (16 + property[2] + 7) / 8 * 8;
      }
    }
    at += (16 + size + 7) / 8 * 8;
  }
  memset(out, 0, 4 * n);
  float facts[] = {o->gain, positions, tempo, frame, speed, events, o->logged, bars[0], bars[1], bars[2], bars[3]};
  memcpy(out, facts, sizeof facts);
}
typedef const void *(*retrieve_t)(void *, uint32_t, size_t *, uint32_t *, uint32_t *);
static int save(void *h, void *store, void *to, uint32_t flags, const void *features) { (void)h; (void)store; (void)to; (void)flags; (void)features; return 0; }
static int restore(void *h, retrieve_t retrieve, void *from, uint32_t flags, const void *features) {
  (void)flags; (void)features;
  size_t size; uint32_t type, kind;
  const void *found = retrieve(from, ((met_t *)h)->gain_key, &size, &type, &kind);
  if (found && size == 4) ((met_t *)h)->gain = *(const float *)found;
  return 0;
}
static const struct { void *save, *restore; } STATE = {save, restore};
static const void *extension(const char *uri) { return strcmp(uri, "http://lv2plug.in/ns/ext/state#interface") ? NULL : &STATE; }
static const lv2_t PLUGIN = {"urn:nimble-test:meets", instantiate, connect, NULL, run, NULL, free, extension};
const lv2_t *lv2_descriptor(uint32_t index) { return index ? NULL : &PLUGIN; }
#endif
