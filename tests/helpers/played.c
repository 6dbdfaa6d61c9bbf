/* An instrument that puts out what it is told, in three standards by a flag: on the left a sixteenth for each note that
   sounds, by its key or by the sustain pedal; on the right a quarter of the wheel (controller 1), half of the bend and an
   eighth of the pressure; all of it once for the first channel, twice for the second and so on. A note sounds as loud as
   it was told; on the right, too, is what it does else: an eighth for each octave, a quarter of how far it is off the
   middle, half of how bright it is and a sixteenth of how hard it is pressed.
   NO_MIDI: as CLAP it takes notes only in CLAP's own way; as VST3 it has no parameters for controllers, and its notes do
   nothing. FEW: as VST3 its notes have loudness and place alone. */
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

#ifdef FEW
enum { TOLD = 2 };
#else
enum { TOLD = 4 };
#endif
#ifdef NO_MIDI
enum { MIDI = 0 };
#else
enum { MIDI = 1 };
#endif
enum { GAIN, PAN, TUNED, BRIGHT, PRESSED, KINDS };
static const float AT_REST[KINDS] = {1, 0.5f, 0, 0, 0};
typedef struct { bool held[128], kept[128]; float does[128][KINDS]; float pedal, wheel, bend, pressure; } channel_t;
typedef struct { channel_t channels[16]; float left, right; bool told; int32_t names[16][128]; float *ports[3]; uint32_t kind; void **component, **processor, **controller, **mapping, **expresses; } own_t;

static void on(own_t *own, int channel, int key) {
  channel_t *o = own->channels + channel;
  own->told = o->held[key] = true; o->kept[key] = false;
  memcpy(o->does[key], AT_REST, sizeof AT_REST);
}
static void does(own_t *own, int channel, int key, int kind, float value) {
  own->channels[channel].does[key][kind] = value; own->told = true;
}
static void off(own_t *own, int channel, int key) {
  channel_t *o = own->channels + channel;
  own->told = true;
  o->kept[key] = o->held[key] && o->pedal >= 0.5f; o->held[key] = false;
}
static void turn(own_t *own, int channel, int number, float value) {
  channel_t *o = own->channels + channel;
  own->told = true;
  if (number == 64) { o->pedal = value; if (value < 0.5f) memset(o->kept, 0, sizeof o->kept); }
  if (number == 1) o->wheel = value;
  if (number == 128) o->pressure = value;
  if (number == 129) o->bend = value;
}
static void forget(own_t *o) { memset(o, 0, offsetof(own_t, ports)); }
static void midi(own_t *o, const uint8_t *m) {
  int kind = m[0] & 0xF0, channel = m[0] & 15;
  if (kind == 0x90) on(o, channel, m[1]);
  if (kind == 0x80) off(o, channel, m[1]);
  if (kind == 0xA0) does(o, channel, m[1], PRESSED, m[2] / 127.0f);
  if (kind == 0xB0) turn(o, channel, m[1], m[2] / 127.0f);
  if (kind == 0xD0) turn(o, channel, 128, m[1] / 127.0f);
  if (kind == 0xE0) turn(o, channel, 129, (m[1] | m[2] << 7) / 16383.0f);
}
static void sound(own_t *o, float *left, float *right, uint32_t i) {
  if (o->told) {
    o->told = false;
    o->left = o->right = 0;
    for (int c = 0; c < 16; c++) {
      const channel_t *of = o->channels + c;
      for (int k = 0; k < 128; k++) {
        const float *now = of->does[k];
        if (!of->held[k] && !of->kept[k]) continue;
        o->left += (c + 1) * now[GAIN] / 16.0f;
        o->right += (c + 1) * (now[TUNED] / 96 + (now[PAN] - 0.5f) / 4 + now[BRIGHT] / 2 + now[PRESSED] / 16);
      }
      o->right += (c + 1) * (of->wheel / 4 + of->bend / 2 + of->pressure / 8);
    }
  }
  left[i] = o->left;
  right[i] = o->right;
}

#if defined LV2
#include "lv2.h"
typedef struct { const char *uri; void *data; } feature_t;
typedef struct { void *handle; uint32_t (*map)(void *, const char *); } map_t;
static void *instantiate(const lv2_t *d, double rate, const char *path, const void *const *features) {
  (void)d; (void)rate; (void)path;
  own_t *o = calloc(1, sizeof *o);
  for (const feature_t *const *f = (const feature_t *const *)features; *f; f++)
    if (!strcmp((*f)->uri, "http://lv2plug.in/ns/ext/urid#map")) {
      const map_t *map = (*f)->data;
      o->kind = map->map(map->handle, "http://lv2plug.in/ns/ext/midi#MidiEvent");
    }
  return o;
}
static void connect(void *h, uint32_t port, void *to) { ((own_t *)h)->ports[port] = to; }
static void run(void *h, uint32_t n) {
  own_t *o = h;
  const char *in = (const char *)o->ports[2];
  uint32_t at = 16, end = 8 + *(const uint32_t *)in;
  for (uint32_t i = 0; i < n; i++) {
    while (at < end && *(const int64_t *)(in + at) <= i) {
      uint32_t size = *(const uint32_t *)(in + at + 8), kind = *(const uint32_t *)(in + at + 12);
      uint8_t message[3] = {0, 0, 0};
      if (kind == o->kind && size <= 3) { memcpy(message, in + at + 16, size); midi(o, message); }
      at += 16 + (size + 7) / 8 * 8;
    }
    sound(o, o->ports[0], o->ports[1], i);
  }
}
static const lv2_t PLUGIN = {"urn:nimble-test:played", instantiate, connect, NULL, run, NULL, free, NULL};
const lv2_t *lv2_descriptor(uint32_t index) { return index ? NULL : &PLUGIN; }

#elif defined CLAP
#include "clap.h"
#define OWN(p) ((own_t *)(p)->data)
typedef struct { header_t header; int32_t id; int16_t port, channel, key; double velocity; } note_t;
typedef struct { header_t header; uint16_t port; uint8_t bytes[3]; } midi_t;
typedef struct { header_t header; int32_t expression, id; int16_t port, channel, key; double value; } does_t;
static const int EXPRESSIONS[] = {GAIN, PAN, TUNED, -1, -1, BRIGHT, PRESSED};
static bool yes(const plugin_t *p) { (void)p; return true; }
static void reset(const plugin_t *p) { forget(OWN(p)); }
static void destroy(const plugin_t *p) { free(p->data); free((void *)p); }
static int32_t process(const plugin_t *p, const process_t *b) {
  uint32_t next = 0, count = b->in_events->size(b->in_events);
  for (uint32_t i = 0; i < b->frames; i++) {
    for (; next < count; next++) {
      const header_t *h = b->in_events->get(b->in_events, next);
      if (h->time > i) break;
      const note_t *note = (const note_t *)h;
      if (h->type == 0) on(OWN(p), note->channel, note->key);
      if (h->type == 1) off(OWN(p), note->channel, note->key);
      const does_t *d = (const does_t *)h;
      if (h->type == 4 && EXPRESSIONS[d->expression] >= 0)
        does(OWN(p), d->channel, d->key, EXPRESSIONS[d->expression], (float)d->value);
      if (h->type == 10 && MIDI) midi(OWN(p), ((const midi_t *)h)->bytes);
    }
    sound(OWN(p), b->out->data32[0], b->out->data32[1], i);
  }
  return 1;
}
static bool switch_on(const plugin_t *p, double rate, uint32_t least, uint32_t most) {
  (void)rate; (void)least; (void)most;
  forget(OWN(p));
  return true;
}
static uint32_t port_count(const plugin_t *p, bool in) { (void)p; return !in; }
static bool port_get(const plugin_t *p, uint32_t i, bool in, void *to) {
  (void)p; (void)in; (void)i;
  port_t *port = to; memset(port, 0, sizeof *port); port->channels = 2; port->flags = 1;
  return true;
}
typedef struct { uint32_t id, dialects, preferred; char name[256]; } notes_t;
static uint32_t notes_count(const plugin_t *p, bool in) { (void)p; return in; }
static bool notes_get(const plugin_t *p, uint32_t i, bool in, void *to) {
  (void)p; (void)in; (void)i;
  notes_t *port = to; memset(port, 0, sizeof *port); port->dialects = 1 | (MIDI ? 2 : 0); port->preferred = 1;
  return true;
}
static const ports_t PORTS = {port_count, port_get}, NOTES = {notes_count, notes_get};
static const void *extension(const plugin_t *p, const char *id) {
  (void)p;
  if (!strcmp(id, "clap.audio-ports")) return &PORTS;
  if (!strcmp(id, "clap.note-ports")) return &NOTES;
  return NULL;
}
static const char *FEATURES[] = {"instrument", NULL};
static const descriptor_t D = {{1, 2, 0}, "test.played", "Played", "tests", "", "", "", "1", "", FEATURES};
static uint32_t plugin_count(const void *f) { (void)f; return 1; }
static const descriptor_t *descriptor(const void *f, uint32_t i) { (void)f; (void)i; return &D; }
static const plugin_t *create(const void *f, const void *host, const char *id) {
  (void)f; (void)host;
  if (strcmp(id, D.id)) return NULL;
  plugin_t *p = calloc(1, sizeof *p);
  plugin_t made = {&D, calloc(1, sizeof(own_t)), yes, destroy, switch_on, nothing, yes, nothing, reset, process, extension, nothing};
  *p = made;
  return p;
}
CLAP_ENTRY(plugin_count, descriptor, create)

#elif defined VST3
typedef int32_t result;
#define FROM(this, field) ((own_t *)((char *)(this) - offsetof(own_t, field)))
static const uint8_t COMPONENT[16] = {0xE8,0x31,0xFF,0x31,0xF2,0xD5,0x43,0x01,0x92,0x8E,0xBB,0xEE,0x25,0x69,0x78,0x02};
static const uint8_t PROCESSOR[16] = {0x42,0x04,0x3F,0x99,0xB7,0xDA,0x45,0x3C,0xA5,0x69,0xE7,0x9D,0x9A,0xAE,0xC3,0x3D};
static const uint8_t CONTROLLER[16] = {0xDC,0xD7,0xBB,0xE3,0x77,0x42,0x44,0x8D,0xA8,0x74,0xAA,0xCC,0x97,0x9C,0x75,0x9E};
static const uint8_t MAPPING[16] = {0xDF,0x0F,0xF9,0xF7,0x49,0xB7,0x46,0x69,0xB6,0x3A,0xB7,0x32,0x7A,0xDB,0xF5,0xE5};
static const uint8_t EXPRESSES[16] = {0xB7,0xF8,0xF8,0x59,0x41,0x23,0x48,0x72,0x91,0x16,0x95,0x81,0x4F,0x37,0x21,0xA3};
static const uint8_t CLASS[16] = "nimbletestplays";
static result find(own_t *o, const uint8_t *iid, void **to) {
  *to = !memcmp(iid, COMPONENT, 16) ? (void *)&o->component : !memcmp(iid, PROCESSOR, 16) ? (void *)&o->processor
      : !memcmp(iid, CONTROLLER, 16) ? (void *)&o->controller
      : MIDI && !memcmp(iid, MAPPING, 16) ? (void *)&o->mapping
      : MIDI && !memcmp(iid, EXPRESSES, 16) ? (void *)&o->expresses : NULL;
  return *to ? 0 : -1;
}
static result find_c(void *t, const uint8_t *i, void **to) { return find(FROM(t, component), i, to); }
static result find_p(void *t, const uint8_t *i, void **to) { return find(FROM(t, processor), i, to); }
static result find_e(void *t, const uint8_t *i, void **to) { return find(FROM(t, controller), i, to); }
static result find_m(void *t, const uint8_t *i, void **to) { return find(FROM(t, mapping), i, to); }
static result find_x(void *t, const uint8_t *i, void **to) { return find(FROM(t, expresses), i, to); }
static uint32_t one(void *t) { (void)t; return 1; }
static uint32_t zero(void *t) { (void)t; return 0; }
static result ok(void *t) { (void)t; return 0; }
static result no(void *t) { (void)t; return -1; }
static result bus_count(void *t, int32_t media, int32_t direction) { (void)t; return media == direction ? 0 : 1; }
typedef struct { int32_t media, direction, channels; uint16_t name[128]; int32_t kind; uint32_t flags; } bus_t;
static result bus_info(void *t, int32_t m, int32_t d, int32_t i, bus_t *b) {
  (void)t; (void)i; memset(b, 0, sizeof *b); b->media = m; b->direction = d; b->channels = m ? 16 : 2; return 0;
}
static result activate_bus(void *t, int32_t media, int32_t direction, int32_t i, uint8_t on) {
  (void)t; (void)media; (void)direction; (void)i; (void)on; return 0;
}
static result set_active(void *t, uint8_t active) { if (active) forget(FROM(t, component)); return 0; }
typedef struct { int32_t channels; uint64_t silence; float **data; } buffers_t;
typedef struct queue { const struct queue_v *v; } queue_t;
struct queue_v { void *base[3]; uint32_t (*id)(queue_t *); int32_t (*points)(queue_t *); result (*point)(queue_t *, int32_t, int32_t *, double *); };
typedef struct changes { const struct changes_v *v; } changes_t;
struct changes_v { void *base[3]; int32_t (*count)(changes_t *); queue_t *(*at)(changes_t *, int32_t); };
typedef struct { int32_t bus, offset; double ppq; uint16_t flags, type; int16_t channel, pitch; char rest[20]; } event_t;
typedef struct list { const struct list_v *v; } list_t;
struct list_v { void *base[3]; int32_t (*count)(list_t *); result (*get)(list_t *, int32_t, void *); };
typedef struct { int32_t mode, size, frames, ins, outs; buffers_t *in, *out; changes_t *changes, *told; list_t *events; } block_t;
/* Its parameters for controllers: 1 the pedal, 2 the wheel, 3 the bend, 4 pressure; of the next channel 8 more. */
static const int NUMBERS[] = {-1, 64, 1, 129, 128};
static result process(void *t, block_t *b) {
  own_t *o = FROM(t, processor);
  for (int32_t i = 0; i < b->frames; i++) {
    for (int32_t k = 0; b->changes && k < b->changes->v->count(b->changes); k++) {
      queue_t *q = b->changes->v->at(b->changes, k);
      int32_t offset; double value;
      for (int32_t p = 0; p < q->v->points(q); p++) {
        q->v->point(q, p, &offset, &value);
        uint32_t id = q->v->id(q);
        if (offset == i && id < 128 && id % 8 < 5) turn(o, (int)(id / 8), NUMBERS[id % 8], (float)value);
      }
    }
    for (int32_t k = 0; b->events && k < b->events->v->count(b->events); k++) {
      char raw[48]; int32_t offset; uint16_t type; int16_t channel, pitch;
      b->events->v->get(b->events, k, raw);
      memcpy(&offset, raw + 4, 4); memcpy(&type, raw + 18, 2);
      memcpy(&channel, raw + 24, 2); memcpy(&pitch, raw + 26, 2);
      if (offset == i && type == 0) on(o, channel, pitch);
      if (offset == i && type == 1) off(o, channel, pitch);
      /* A note goes by the name that it was given when it began, whatever that is. */
      int32_t name; uint32_t kind; float pressure; double value;
      if (offset == i && type == 0) { memcpy(&name, raw + 40, 4); o->names[channel][pitch] = name; }
      if (offset == i && type == 3) { memcpy(&pressure, raw + 28, 4); does(o, channel, pitch, PRESSED, pressure); }
      memcpy(&kind, raw + 24, 4); memcpy(&name, raw + 28, 4); memcpy(&value, raw + 32, 8);
      for (int n = 0; offset == i && type == 4 && n < 16 * 128; n++)
        if (o->names[n / 128][n % 128] == name && o->channels[n / 128].held[n % 128]) {
          if (kind == 0) does(o, n / 128, n % 128, GAIN, (float)value * 4);
          if (kind == 1) does(o, n / 128, n % 128, PAN, (float)value);
          if (kind == 2) does(o, n / 128, n % 128, TUNED, (float)(240 * (value - 0.5)));
          if (kind == 5) does(o, n / 128, n % 128, BRIGHT, (float)value);
        }
    }
    sound(o, b->out->data[0], b->out->data[1], i);
  }
  return 0;
}
static result assigned(void *t, int32_t bus, int16_t channel, int16_t number, uint32_t *to) {
  (void)t;
  for (int k = 1; k < 5; k++) if (!bus && NUMBERS[k] == number) { *to = 8 * channel + k; return 0; }
  return 1;
}
static void *COMPONENT_V[] = {find_c, one, one, ok, ok, no, ok, bus_count, bus_info, no, activate_bus, set_active, ok, ok};
static void *PROCESSOR_V[] = {find_p, one, one, ok, no, ok, zero, ok, ok, process, ok};
static void *CONTROLLER_V[] = {find_e, one, one, ok, ok, ok, ok, ok, zero, no, no, no, no, no, zero, no, no, no};
typedef struct { uint32_t kind; uint16_t names[3][128]; int32_t unit; double values[3]; int32_t steps; uint32_t parameter; int32_t flags; } kind_t;
static int32_t kinds(void *t, int32_t bus, int16_t channel) { (void)t; (void)channel; return bus ? 0 : TOLD; }
static result described(void *t, int32_t bus, int16_t channel, int32_t i, kind_t *to) {
  static const uint32_t NUMBERS_OF[] = {0, 1, 2, 5};
  (void)t; (void)bus; (void)channel; memset(to, 0, sizeof *to); to->kind = NUMBERS_OF[i]; return 0;
}
static void *EXPRESSES_V[] = {find_x, one, one, kinds, described};
static void *MAPPING_V[] = {find_m, one, one, assigned};
static result factory_find(void *t, const void *i, void **to) { (void)t; (void)i; *to = NULL; return -1; }
typedef struct { char cid[16]; int32_t cardinality; char category[32], name[64]; } class_t;
static result class_info(void *t, int32_t i, class_t *c) {
  (void)t; (void)i; memset(c, 0, sizeof *c);
  memcpy(c->cid, CLASS, 16); strcpy(c->category, "Audio Module Class"); strcpy(c->name, "Played");
  return 0;
}
static result create(void *t, const char *cid, const uint8_t *iid, void **to) {
  (void)t;
  if (memcmp(cid, CLASS, 16)) { *to = NULL; return -1; }
  own_t *o = calloc(1, sizeof *o);
  o->component = COMPONENT_V; o->processor = PROCESSOR_V; o->controller = CONTROLLER_V; o->mapping = MAPPING_V; o->expresses = EXPRESSES_V;
  return find(o, iid, to);
}
static void *FACTORY_V[] = {factory_find, one, one, no, one, class_info, create};
static void **FACTORY = FACTORY_V;
bool ModuleEntry(void *library) { (void)library; return true; }
bool ModuleExit(void) { return true; }
void *GetPluginFactory(void) { return &FACTORY; }
#endif
