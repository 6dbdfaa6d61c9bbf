/* CLAP plugins with a window of their own, as good and as bad as they come; which one, the id says:
   good: a child window; a click on it sets Level to 0.75; it asks for 500 × 300 once it is shown;
   hungry: burns a fifth of a core in a timer, and fills 60 MB when its window is made;
   crashes, hangs: when its window is put into the host's; leaves: closes itself after ten ticks;
   floats: as good, but in a window that no host holds; bare: has none; stateless: as good, but saves no state; forgets: as good, but takes no state back. */
#include "clap.h"
#include <stdlib.h>
#include <time.h>

typedef struct _XDisplay Display;
typedef unsigned long Window;
extern Display *XOpenDisplay(const char *);
extern Window XDefaultRootWindow(Display *);
extern int XStoreName(Display *, Window, const char *);
extern Window XCreateSimpleWindow(Display *, Window, int, int, unsigned, unsigned, unsigned, unsigned long, unsigned long);
extern int XMapWindow(Display *, Window), XSelectInput(Display *, Window, long), XPending(Display *), XFlush(Display *);
extern int XNextEvent(Display *, long *), XConnectionNumber(Display *), XCloseDisplay(Display *);
extern int XDestroyWindow(Display *, Window), XResizeWindow(Display *, Window, unsigned, unsigned);

typedef struct host {
  version_t v; void *data; const char *texts[4]; const void *(*extension)(const struct host *, const char *);
  void *restart, *process; void (*callback)(const struct host *);
} host_t;
typedef struct { void (*hints)(const host_t *); bool (*resize)(const host_t *, uint32_t, uint32_t);
  void *show, *hide; void (*closed)(const host_t *, bool); } host_gui_t;
typedef struct { bool (*begin)(const host_t *, uint32_t, uint32_t *); bool (*end)(const host_t *, uint32_t); } host_timer_t;
typedef struct { bool (*add)(const host_t *, int, uint32_t); void *modify; bool (*remove)(const host_t *, int); } host_fd_t;
typedef struct { const char *api; unsigned long number; } place_t;
typedef struct { const host_t *host; const char *kind; double level; Display *display; Window window; uint32_t timer; int ticks; char *filled; } own_t;
#define OWN(p) ((own_t *)(p)->data)
#define IS(p, name) (!strcmp(OWN(p)->kind, name))
#define HOST(p, kind, name) ((const kind *)OWN(p)->host->extension(OWN(p)->host, name))

static bool yes(const plugin_t *p) { (void)p; return true; }
static void destroy(const plugin_t *p) { free(p->data); free((void *)p); }
static int32_t process(const plugin_t *p, const process_t *b) {
  for (uint32_t i = 0; i < b->frames; i++) b->out->data32[0][i] = (float)OWN(p)->level * b->in->data32[0][i];
  return 1;
}
static uint32_t port_count(const plugin_t *p, bool in) { (void)p; (void)in; return 1; }
static bool port_get(const plugin_t *p, uint32_t i, bool in, void *to) {
  (void)p; (void)i; (void)in; port_t *port = to; memset(port, 0, sizeof *port); port->channels = 1; return true;
}
static const ports_t PORTS = {port_count, port_get};

static long cpu(void) { struct timespec t; clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t); return t.tv_sec * 1000000000L + t.tv_nsec; }

static bool supported(const plugin_t *p, const char *api, bool floating) { return !strcmp(api, "x11") && floating == IS(p, "floats"); }
static bool parent(const plugin_t *p, const place_t *in);
static bool make(const plugin_t *p, const char *api, bool floating) {
  (void)api;
  if (floating && !parent(p, NULL)) return false;
  if (IS(p, "hungry")) { OWN(p)->filled = malloc(60 << 20); memset(OWN(p)->filled, 1, 60 << 20); }
  return HOST(p, host_timer_t, "clap.timer-support")->begin(OWN(p)->host, 20, &OWN(p)->timer);
}
static void unmake(const plugin_t *p) {
  own_t *o = OWN(p);
  HOST(p, host_timer_t, "clap.timer-support")->end(o->host, o->timer);
  if (o->display) {
    HOST(p, host_fd_t, "clap.posix-fd-support")->remove(o->host, XConnectionNumber(o->display));
    XDestroyWindow(o->display, o->window); XCloseDisplay(o->display); o->display = NULL;
  }
}
static bool size_get(const plugin_t *p, uint32_t *w, uint32_t *h) { (void)p; *w = 300; *h = 200; return true; }
static bool size_set(const plugin_t *p, uint32_t w, uint32_t h) { XResizeWindow(OWN(p)->display, OWN(p)->window, w, h); XFlush(OWN(p)->display); return true; }
static bool no(const plugin_t *p) { (void)p; return false; }
static bool parent(const plugin_t *p, const place_t *in) {
  own_t *o = OWN(p);
  if (IS(p, "crashes")) abort();
  while (IS(p, "hangs")) {}
  o->display = XOpenDisplay(NULL);
  if (!o->display) return false;
  o->window = XCreateSimpleWindow(o->display, in ? in->number : XDefaultRootWindow(o->display), 0, 0, 300, 200, 0, 0, 0x4080c0);
  XSelectInput(o->display, o->window, 1L << 2);
  if (in) XMapWindow(o->display, o->window);
  XFlush(o->display);
  return HOST(p, host_fd_t, "clap.posix-fd-support")->add(o->host, XConnectionNumber(o->display), 1);
}
static void title(const plugin_t *p, const char *words) { if (IS(p, "floats")) XStoreName(OWN(p)->display, OWN(p)->window, words); }
static bool show(const plugin_t *p) {
  if (IS(p, "floats")) { XMapWindow(OWN(p)->display, OWN(p)->window); XFlush(OWN(p)->display); return true; }
  return HOST(p, host_gui_t, "clap.gui")->resize(OWN(p)->host, 500, 300);
}
static const struct { void *supported, *preferred, *create, *destroy, *scale, *size, *can_resize, *hints, *adjust, *set_size,
  *parent, *transient, *title, *show, *hide; } GUI = {supported, NULL, make, unmake, NULL, size_get, no, NULL, NULL, size_set,
  parent, NULL, title, show, yes};

static void on_timer(const plugin_t *p, uint32_t id) {
  (void)id;
  if (IS(p, "hungry")) for (long end = cpu() + 4000000; cpu() < end;) {}
  if (IS(p, "leaves") && ++OWN(p)->ticks == 10) HOST(p, host_gui_t, "clap.gui")->closed(OWN(p)->host, false);
}
static void on_file(const plugin_t *p, int file, uint32_t flags) {
  (void)file; (void)flags;
  long event[24];
  while (XPending(OWN(p)->display)) { XNextEvent(OWN(p)->display, event); if (*(int *)event == 4) OWN(p)->level = 0.75; }
}
static const struct { void *on; } TIMER = {on_timer}, FILES = {on_file};

typedef struct out { void *ctx; int64_t (*write)(const struct out *, const void *, uint64_t); } out_t;
static bool save(const plugin_t *p, const void *to) { return ((const out_t *)to)->write(to, &OWN(p)->level, 8) == 8; }
static bool load(const plugin_t *p, const stream_t *from) { return !IS(p, "forgets") && from->read(from, &OWN(p)->level, 8) == 8; }
static const state_t STATE = {save, load};
typedef struct { uint32_t id, flags; void *cookie; char name[256], module[1024]; double least, most, start; } param_t;
static uint32_t param_count(const plugin_t *p) { (void)p; return 1; }
static bool param_info(const plugin_t *p, uint32_t i, param_t *to) {
  (void)p; (void)i; memset(to, 0, sizeof *to); to->id = 1; strcpy(to->name, "Level"); to->most = 1; return true;
}
static bool param_value(const plugin_t *p, uint32_t id, double *to) { (void)id; *to = OWN(p)->level; return true; }
static void flush(const plugin_t *p, const events_t *in, const void *out) {
  (void)out;
  for (uint32_t i = 0; i < in->size(in); i++) OWN(p)->level = ((const value_t *)in->get(in, i))->value;
}
static const struct { void *count, *info, *value, *to_text, *from_text, *flush; } PARAMS = {param_count, param_info, param_value, NULL, NULL, flush};

static const void *extension(const plugin_t *p, const char *id) {
  if (!strcmp(id, "clap.audio-ports")) return &PORTS;
  if (!strcmp(id, "clap.params")) return &PARAMS;
  if (!strcmp(id, "clap.state") && !IS(p, "stateless")) return &STATE;
  if (IS(p, "bare")) return NULL;
  if (!strcmp(id, "clap.gui")) return &GUI;
  if (!strcmp(id, "clap.timer-support")) return &TIMER;
  if (!strcmp(id, "clap.posix-fd-support")) return &FILES;
  return NULL;
}
static const char *KINDS[] = {"good", "hungry", "crashes", "hangs", "leaves", "bare", "stateless", "forgets", "floats"};
static const char *NONE[] = {"utility", NULL};
static descriptor_t D[9];
static uint32_t count(const void *f) { (void)f; return 9; }
static const descriptor_t *describe(const void *f, uint32_t i) {
  (void)f;
  descriptor_t made = {{1, 2, 0}, KINDS[i], KINDS[i], "tests", "", "", "", "1", "", NONE};
  D[i] = made;
  return &D[i];
}
static const plugin_t *create(const void *f, const void *host, const char *id) {
  for (uint32_t i = 0; i < 9; i++) if (!strcmp(id, KINDS[i])) {
    plugin_t *p = calloc(1, sizeof *p);
    own_t *o = calloc(1, sizeof *o);
    o->host = host; o->kind = KINDS[i]; o->level = 1;
    plugin_t made = {describe(f, i), o, yes, destroy, activate, nothing, yes, nothing, nothing, process, extension, nothing};
    *p = made;
    return p;
  }
  return NULL;
}
CLAP_ENTRY(count, describe, create)
