/* An LV2 plugin whose window talks with it in events: on its first turn the window sends "ask" into the event input; the
   plugin answers in every block from then on with "told" from its event output; the window then sets Level to 0.25.
   As with real ones, nothing may reach the window after it was closed. */
#include "lv2.h"
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

typedef struct { const char *uri; void *data; } feature_t;
typedef struct { void *handle; uint32_t (*map)(void *, const char *); } map_t;
typedef struct { uint32_t size, type; } atom_t;
typedef struct { atom_t atom; uint32_t unit, pad; } sequence_t;
typedef struct { int64_t time; atom_t body; } event_t;
static const void *find(const void *const *features, const char *uri) {
  for (const feature_t *const *f = (const feature_t *const *)features; *f; f++) if (!strcmp((*f)->uri, uri)) return (*f)->data;
  return NULL;
}
static uint32_t number(const void *const *features, const char *uri) {
  const map_t *map = find(features, "http://lv2plug.in/ns/ext/urid#map");
  return map->map(map->handle, uri);
}

typedef struct { void *ports[5]; uint32_t sequence, text; int asked; } own_t;
static void *instantiate(const lv2_t *d, double rate, const char *path, const void *const *features) {
  (void)d; (void)rate; (void)path;
  own_t *o = calloc(1, sizeof *o);
  o->sequence = number(features, "http://lv2plug.in/ns/ext/atom#Sequence");
  o->text = number(features, "http://lv2plug.in/ns/ext/atom#String");
  return o;
}
static void connect(void *h, uint32_t port, void *to) { ((own_t *)h)->ports[port] = to; }
static void run(void *h, uint32_t n) {
  own_t *o = h;
  memcpy(o->ports[1], o->ports[0], n * sizeof(float));
  const sequence_t *in = o->ports[3];
  if (in->atom.type == o->sequence && in->atom.size > 8) {
    const event_t *e = (const event_t *)(in + 1);
    if (e->body.type == o->text && !strcmp((const char *)(e + 1), "ask")) o->asked = 1;
  }
  sequence_t *out = o->ports[4];
  out->atom.type = o->sequence; out->unit = 0; out->atom.size = 8;
  if (o->asked) {
    event_t *e = (event_t *)(out + 1);
    e->time = 0; e->body.size = 5; e->body.type = o->text; memcpy(e + 1, "told", 5);
    out->atom.size += sizeof *e + 8;
  }
}
static const lv2_t PLUGIN = {"urn:nimble-test:talks", instantiate, connect, NULL, run, NULL, free, NULL};
const lv2_t *lv2_descriptor(uint32_t index) { return index ? NULL : &PLUGIN; }

typedef void (*write_t)(void *, uint32_t, uint32_t, uint32_t, const void *);
typedef struct ui {
  const char *uri;
  void *(*instantiate)(const struct ui *, const char *, const char *, write_t, void *, void **, const void *const *);
  void (*cleanup)(void *); void (*event)(void *, uint32_t, uint32_t, uint32_t, const void *); const void *(*extension)(const char *);
} ui_t;
typedef struct _XDisplay Display;
typedef struct { write_t write; void *to; uint32_t transfer, text; int sent; Display *display; } window_t;
extern Display *XOpenDisplay(const char *);
extern unsigned long XCreateSimpleWindow(Display *, unsigned long, int, int, unsigned, unsigned, unsigned, unsigned long, unsigned long);
extern int XMapWindow(Display *, unsigned long), XFlush(Display *);
static void *open_ui(const ui_t *d, const char *plugin, const char *path, write_t write, void *to, void **widget, const void *const *features) {
  (void)d; (void)plugin; (void)path;
  window_t *w = calloc(1, sizeof *w);
  w->write = write; w->to = to;
  w->transfer = number(features, "http://lv2plug.in/ns/ext/atom#eventTransfer");
  w->text = number(features, "http://lv2plug.in/ns/ext/atom#String");
  Display *display = XOpenDisplay(NULL);
  unsigned long made = XCreateSimpleWindow(display, (unsigned long)find(features, "http://lv2plug.in/ns/extensions/ui#parent"),
                                           0, 0, 321, 123, 0, 0, 0x80c040);
  XMapWindow(display, made);
  w->display = display; /* told of on the first turn only: until then the display knows of no such window */
  *widget = (void *)made;
  return w;
}
static void close_ui(void *h) { free(h); }
static void heard(void *h, uint32_t port, uint32_t size, uint32_t protocol, const void *data) {
  window_t *w = h;
  if (!h) abort();
  if (port == 4 && protocol == w->transfer && size == 13 && ((const atom_t *)data)->type == w->text
      && !strcmp((const char *)data + 8, "told")) { float level = 0.25f; w->write(w->to, 2, 4, 0, &level); }
}
static int go_on(void *h) {
  window_t *w = h;
  struct { atom_t atom; char text[4]; } ask = {{4, w->text}, "ask"};
  XFlush(w->display);
  if (!w->sent++) w->write(w->to, 3, sizeof ask, w->transfer, &ask);
  return 0;
}
static const struct { int (*go_on)(void *); } IDLE = {go_on};
static const void *extension(const char *uri) { return strcmp(uri, "http://lv2plug.in/ns/extensions/ui#idleInterface") ? NULL : &IDLE; }
static const ui_t UI = {"urn:nimble-test:talks-window", open_ui, close_ui, heard, extension};
const ui_t *lv2ui_descriptor(uint32_t index) { return index ? NULL : &UI; }
