/* LV2 in C, as far as the test plugins need it. */
#include <stdint.h>
typedef struct lv2 {
  const char *uri; void *(*instantiate)(const struct lv2 *, double, const char *, const void *const *);
  void (*connect)(void *, uint32_t, void *); void (*activate)(void *); void (*run)(void *, uint32_t);
  void (*deactivate)(void *); void (*cleanup)(void *); const void *(*extension)(const char *);
} lv2_t;
