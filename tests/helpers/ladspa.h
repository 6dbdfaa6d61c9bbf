/* LADSPA in C, as far as the test plugins need it. */
typedef struct { int hint; float lower, upper; } hint_t;
typedef struct descriptor {
  unsigned long id; const char *label; int properties; const char *name, *maker, *copyright; unsigned long ports;
  const int *kinds; const char *const *names; const hint_t *hints; void *own;
  void *(*instantiate)(const struct descriptor *, unsigned long); void (*connect)(void *, unsigned long, float *);
  void (*activate)(void *); void (*run)(void *, unsigned long); void *run_adding, *set_gain;
  void (*deactivate)(void *); void (*cleanup)(void *);
} descriptor_t;
