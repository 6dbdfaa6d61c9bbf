/* CLAP 1 in C, as far as the test plugins need it; and what most of them do alike. */
#include <stdbool.h>
#include <stdint.h>
#include <string.h>

typedef struct { uint32_t major, minor, revision; } version_t;
typedef struct {
  version_t clap_version;
  const char *id, *name, *vendor, *url, *manual_url, *support_url, *version, *description;
  const char *const *features;
} descriptor_t;
typedef struct { float **data32; double **data64; uint32_t channels, latency; uint64_t constant; } audio_t;
typedef struct events { void *ctx; uint32_t (*size)(const struct events *); const void *(*get)(const struct events *, uint32_t); } events_t;
typedef struct {
  int64_t steady; uint32_t frames; const void *transport; const audio_t *in; audio_t *out;
  uint32_t ins, outs; const events_t *in_events; const void *out_events;
} process_t;
typedef struct plugin {
  const descriptor_t *desc; void *data;
  bool (*init)(const struct plugin *); void (*destroy)(const struct plugin *);
  bool (*activate)(const struct plugin *, double, uint32_t, uint32_t); void (*deactivate)(const struct plugin *);
  bool (*start)(const struct plugin *); void (*stop)(const struct plugin *); void (*reset)(const struct plugin *);
  int32_t (*process)(const struct plugin *, const process_t *);
  const void *(*extension)(const struct plugin *, const char *); void (*on_main)(const struct plugin *);
} plugin_t;
typedef struct { uint32_t (*count)(const plugin_t *, bool); bool (*get)(const plugin_t *, uint32_t, bool, void *); } ports_t;
typedef struct { uint32_t id; char name[256]; uint32_t flags, channels; const char *type; uint32_t pair; } port_t;
typedef struct stream { void *ctx; int64_t (*read)(const struct stream *, void *, uint64_t); } stream_t;
typedef struct { bool (*save)(const plugin_t *, const void *); bool (*load)(const plugin_t *, const stream_t *); } state_t;
typedef struct { uint32_t (*get)(const plugin_t *); } latency_t;
typedef struct { uint32_t size, time; uint16_t space, type; uint32_t flags; } header_t;
typedef struct { header_t header; uint32_t param; void *cookie; int32_t note; int16_t port, channel, key; double value; } value_t;

static void nothing(const plugin_t *p) { (void)p; }
static bool activate(const plugin_t *p, double r, uint32_t a, uint32_t b) { (void)p; (void)r; (void)a; (void)b; return true; }

#define CLAP_ENTRY(count, descriptor, create) \
static const struct { uint32_t (*count)(const void *); const descriptor_t *(*get)(const void *, uint32_t); \
  const plugin_t *(*create)(const void *, const void *, const char *); } FACTORY = {count, descriptor, create}; \
static bool entry_init(const char *path) { (void)path; return true; } \
static void entry_deinit(void) {} \
static const void *entry_factory(const char *id) { return strcmp(id, "clap.plugin-factory") ? NULL : &FACTORY; } \
const struct { version_t v; bool (*init)(const char *); void (*deinit)(void); const void *(*factory)(const char *); } \
  clap_entry = {{1, 2, 0}, entry_init, entry_deinit, entry_factory};
