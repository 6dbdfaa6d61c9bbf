/* A plugin that does what no plugin should, while it loads; CLAP, one kind of mischief for each of its plugins.
   It ends its process with exit code 40 if that was refused, 41 if it went through, having said so.
   NIMBLE_TEST holds what it is about: a file to read or write, a port to connect to, a process to signal. */
#define _GNU_SOURCE
#include "clap.h"
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/ptrace.h>
#include <sys/socket.h>
#include <sys/uio.h>
#include <unistd.h>

static const char *NAMES[] = {"read", "write", "connect", "datagram", "signal", "ptrace", "peek", "stay", "fill", "garble", "forge", "mount"};
enum { COUNT = sizeof NAMES / sizeof *NAMES };
static const char *NONE[] = {NULL};

static void done(bool refused, const char *what) {
  fprintf(stderr, "%s was %s\n", what, refused ? "refused" : "possible");
  fflush(stderr);
  _exit(refused ? 40 : 41);
}

static void mischief(const char *name) {
  const char *about = getenv("NIMBLE_TEST");
  char byte = 'x';
  if (!about) about = "0";
  if (!strcmp(name, "read")) { int f = open(about, O_RDONLY); done(f < 0 || read(f, &byte, 1) != 1, name); }
  if (!strcmp(name, "write")) { int f = open(about, O_WRONLY | O_CREAT, 0600); done(f < 0 || write(f, &byte, 1) != 1, name); }
  if (!strcmp(name, "connect") || !strcmp(name, "datagram")) {
    int s = socket(AF_INET, strcmp(name, "connect") ? SOCK_DGRAM : SOCK_STREAM, 0);
    struct sockaddr_in to = {.sin_family = AF_INET, .sin_port = htons(atoi(about)), .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
    done(s < 0 || connect(s, (struct sockaddr *)&to, sizeof to) < 0, name);
  }
  if (!strcmp(name, "signal")) done(kill(atoi(about), SIGUSR1) < 0, name);
  if (!strcmp(name, "ptrace")) done(ptrace(PTRACE_ATTACH, atoi(about), 0, 0) < 0, name);
  if (!strcmp(name, "peek")) {
    struct iovec here = {&byte, 1}, there = {&byte, 1};
    done(process_vm_readv(atoi(about), &here, 1, &there, 1, 0) < 0 && errno == EPERM, name);
  }
  if (!strcmp(name, "mount")) done(mount("none", "/tmp", "tmpfs", 0, NULL) < 0, name);
  if (!strcmp(name, "stay")) {  /* a child of a child, in a session of its own, that would stay for ten minutes */
    if (!fork()) { setsid(); if (!fork()) { signal(SIGTERM, SIG_IGN); sleep(600); } _exit(0); }
    usleep(100000);
    _exit(40);
  }
  if (!strcmp(name, "fill")) {
    char path[4096]; static char much[1 << 20];
    snprintf(path, sizeof path, "%s/much", getenv("TMPDIR"));
    int f = open(path, O_WRONLY | O_CREAT, 0600);
    long long total = 0; ssize_t n;
    while (f >= 0 && total < 2048LL << 20 && (n = write(f, much, sizeof much)) > 0) total += n;
    done(total < 2048LL << 20, name);
  }
  if (!strcmp(name, "garble")) {
    static char much[1 << 16]; memset(much, 'g', sizeof much);
    for (int f = 3; f < 64; f++) { fcntl(f, F_SETFL, O_NONBLOCK); for (int k = 0; k < 4000; k++) if (write(f, much, sizeof much) <= 0) { if (errno != EAGAIN) break; usleep(1000); } }
    _exit(40);
  }
  if (!strcmp(name, "forge")) {
    const char *line = "{\"type\":\"cell\",\"cell\":{\"rate\":48000,\"buffer\":64,\"condition\":\"sounding\",\"mean\":-1e300}}\n";
    for (int f = 3; f < 64; f++) if (write(f, line, strlen(line)) < 0) continue;
    sleep(1);
    _exit(40);
  }
}

static bool start(const plugin_t *p) { mischief(p->desc->id + strlen("hostile.")); return false; }
static bool yes(const plugin_t *p) { (void)p; return true; }
static void destroy(const plugin_t *p) { free((void *)p); }
static int32_t process(const plugin_t *p, const process_t *b) { (void)p; (void)b; return 1; }
static const void *extension(const plugin_t *p, const char *id) { (void)p; (void)id; return NULL; }
static descriptor_t DESCRIPTORS[COUNT];
static char IDS[COUNT][64];
static uint32_t plugin_count(const void *f) { (void)f; return COUNT; }
static const descriptor_t *descriptor(const void *f, uint32_t i) {
  (void)f;
  snprintf(IDS[i], sizeof IDS[i], "hostile.%s", NAMES[i]);
  descriptor_t d = {{1, 2, 0}, IDS[i], NAMES[i], "tests", "", "", "", "1", "", NONE};
  DESCRIPTORS[i] = d;
  return &DESCRIPTORS[i];
}
static const plugin_t *create(const void *f, const void *host, const char *id) {
  (void)host;
  for (uint32_t i = 0; i < COUNT; i++)
    if (!strcmp(descriptor(f, i)->id, id)) {
      plugin_t *p = calloc(1, sizeof *p);
      plugin_t made = {&DESCRIPTORS[i], NULL, start, destroy, activate, nothing, yes, nothing, nothing, process, extension, nothing};
      *p = made;
      return p;
    }
  return NULL;
}
CLAP_ENTRY(plugin_count, descriptor, create)

/* The same while it is only looked into, by the file's name. */
__attribute__((constructor)) static void loaded(void) {
  const char *scanned = getenv("NIMBLE_TEST_SCAN");
  if (scanned) mischief(scanned);
}
