/* The port to Linux: a folder is the flash, sockets are the network, and a process is what the boot loader starts.
 *
 * An image is 16 bytes of mark and an ELF program: this very program, with its nameplate. Started from outside it is the
 * boot loader: it looks which slot to start, starts it (execve), and looks again when that ends. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netdb.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/random.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/types.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "updater.h"

#ifndef HANGS_AFTER_MS
#define HANGS_AFTER_MS 120000
#endif
enum { RESTART = 75, MARK = 16 };
static const char *const NAMES[UP_AREAS] = {"a.bin", "b.bin", "record0", "record1", "keys"};
static const char *const mark = "TA-IMAGE 1\n\0\0\0\0\0";

static const char *folder, *host = "127.0.0.1", *port = "8410";
static int line_ = -1;

/* Flash ------------------------------------------------------------------------------------------------------------- */

static int open_area(int area, int flags) {
  char path[512];
  snprintf(path, sizeof path, "%s/%s", folder, NAMES[area]);
  return open(path, flags, 0600);
}

static int flash_read(int area, uint32_t at, void *to, uint32_t size) {
  int file = open_area(area, O_RDONLY);
  if (file < 0) return -1;
  ssize_t got = pread(file, to, size, at);
  close(file);
  return got == (ssize_t)size ? 0 : -1;
}

static int flash_write(int area, uint32_t at, const void *from, uint32_t size) {
  int file = open_area(area, O_WRONLY | O_CREAT);
  if (file < 0) return -1;
  ssize_t put = pwrite(file, from, size, at);
  close(file);
  return put == (ssize_t)size ? 0 : -1;
}

static int flash_erase(int area) {
  char path[512];
  snprintf(path, sizeof path, "%s/%s", folder, NAMES[area]);
  return unlink(path) && errno != ENOENT ? -1 : 0;
}

/* Network ----------------------------------------------------------------------------------------------------------- */

static int net_connect(void) {
  struct addrinfo hints = {.ai_socktype = SOCK_STREAM}, *found = 0;
  int one = 1;
  if (line_ >= 0) close(line_);
  line_ = -1;
  if (getaddrinfo(host, port, &hints, &found)) return -1;
  for (struct addrinfo *at = found; at && line_ < 0; at = at->ai_next) {
    line_ = socket(at->ai_family, at->ai_socktype | SOCK_CLOEXEC, 0);
    if (line_ >= 0 && connect(line_, at->ai_addr, at->ai_addrlen)) {
      close(line_);
      line_ = -1;
    }
  }
  freeaddrinfo(found);
  if (line_ >= 0) setsockopt(line_, IPPROTO_TCP, TCP_NODELAY, &one, sizeof one);
  return line_ < 0 ? -1 : 0;
}

static int net_send(const void *from, uint32_t size) {
  for (const char *at = from; size;) {
    ssize_t put = send(line_, at, size, MSG_NOSIGNAL);
    if (put <= 0) return -1;
    at += put;
    size -= (uint32_t)put;
  }
  return 0;
}

static int net_receive(void *to, uint32_t size, uint32_t within_ms) {
  struct pollfd one = {line_, POLLIN, 0};
  if (poll(&one, 1, (int)within_ms) <= 0) return -1;
  return (int)recv(line_, to, size, 0);
}

/* Time, lamp, restart ----------------------------------------------------------------------------------------------- */

static uint32_t wait_ms(uint32_t ms) {
  struct timespec now, pause = {ms / 1000, (long)(ms % 1000) * 1000000};
  while (ms && nanosleep(&pause, &pause) && errno == EINTR) continue;
  clock_gettime(CLOCK_MONOTONIC, &now);
  return (uint32_t)(now.tv_sec * 1000 + now.tv_nsec / 1000000);
}

static void lamp(const char *words) {
  char path[512];
  snprintf(path, sizeof path, "%s/lamp", folder);
  FILE *file = fopen(path, "w");
  if (file) fputs(words, file), fclose(file);
  printf("%s\n", words);
  fflush(stdout);
}

static void restart(void) { _exit(RESTART); }

static int self_test(void) {
#ifdef FAILS
  return 0;
#else
  return 1;
#endif
}

static const struct up_port LINUX = {flash_read, flash_write, flash_erase, net_connect,
                                     net_send,   net_receive, wait_ms,     restart};

/* The firmware ------------------------------------------------------------------------------------------------------ */

static void read_file(const char *name, void *to, size_t size) {
  char path[512];
  snprintf(path, sizeof path, "%s/%s", folder, name);
  FILE *file = fopen(path, "r");
  if (!file || fread(to, 1, size, file) != size) {
    fprintf(stderr, "device: %s cannot be read\n", path);
    exit(2);
  }
  fclose(file);
}

static void firmware(char **words, int slot, int on_trial) {
  static char nonce[33], place[300];
  static const uint8_t class_id[] = {CLASS_ID};
  struct up_identity identity = {.board = BOARD, .line = LINE, .slot_size = 1 << 20, .nonce = nonce};
  read_file("nonce", nonce, 32);
  read_file("root", identity.root, 32);
  memcpy(identity.class_id, class_id, sizeof class_id);
  identity.serial = words[4];
  identity.code = words[5];
  identity.hw_rev = (uint16_t)atoi(words[6]);
  identity.hold_s = (uint32_t)atoi(words[7]);
  snprintf(place, sizeof place, "%s:%s", host, port);
  identity.host = place;
#ifdef CRASHES
  abort();
#endif
#ifdef HANGS
  for (;;) wait_ms(1000);
#endif
  up_run(&LINUX, &identity, slot, on_trial, self_test, lamp);
}

/* The boot loader --------------------------------------------------------------------------------------------------- */

static int make(const char *image, const char *root) {
  uint8_t block[4096], *key = block;
  char path[512];
  uint32_t size = 0;
  FILE *file = fopen(image, "r");
  if (!file) return fprintf(stderr, "device: %s cannot be read\n", image), -1;
  for (size_t got; (got = fread(block, 1, sizeof block, file)); size += (uint32_t)got)
    if (flash_write(UP_SLOT_A, size, block, (uint32_t)got)) return -1;
  fclose(file);
  file = fopen(root, "r"); /* PEM: the raw key is the last 32 bytes of what is written in base64 */
  if (!file) return fprintf(stderr, "device: %s cannot be read\n", root), -1;
  uint32_t bits = 0, count = 0, length = 0;
  for (char line[128]; fgets(line, sizeof line, file);) {
    if (line[0] == '-') continue;
    for (char *at = line; *at && *at != '\n' && *at != '='; at++) {
      static const char letters[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
      bits = bits << 6 | (uint32_t)(strchr(letters, *at) - letters);
      if ((count += 6) >= 8) key[length++] = (uint8_t)(bits >> (count -= 8));
    }
  }
  fclose(file);
  if (length < 32) return fprintf(stderr, "device: %s is no public key\n", root), -1;
  snprintf(path, sizeof path, "%s/root", folder);
  if (!(file = fopen(path, "w")) || fwrite(key + length - 32, 1, 32, file) != 32 || fclose(file)) return -1;
  char nonce[33];
  uint8_t random[16];
  if (getrandom(random, sizeof random, 0) != sizeof random) return -1;
  for (int i = 0; i < 16; i++) snprintf(nonce + 2 * i, 3, "%02x", random[i]);
  snprintf(path, sizeof path, "%s/nonce", folder);
  if (!(file = fopen(path, "w")) || fwrite(nonce, 1, 32, file) != 32 || fclose(file)) return -1;
  return up_make(&LINUX, size, VERSION, FLOOR);
}

/* Starts what stands in a slot, as a process of its own. */
static pid_t start(char **words, int slot, int on_trial) {
  pid_t child = fork();
  if (child) return child;
  prctl(PR_SET_PDEATHSIG, SIGKILL); /* power that fails fails for both */
  int from = open_area(slot, O_RDONLY), program = memfd_create("firmware", MFD_CLOEXEC);
  char block[4096];
  ssize_t got = pread(from, block, MARK, 0);
  if (got != MARK || memcmp(block, mark, 10)) _exit(1);
  lseek(from, MARK, SEEK_SET);
  while ((got = read(from, block, sizeof block)) > 0)
    if (write(program, block, (size_t)got) != got) _exit(1);
  close(from);
  setenv("BOOTED", slot ? "b" : "a", 1);
  setenv("TRIAL", on_trial ? "1" : "", 1);
  fexecve(program, words, environ);
  _exit(1);
}

static int boot_loader(char **words) {
  int on_trial = 0, slot;
  while ((slot = up_boot(&LINUX, &on_trial)) != UP_NO_SLOT) {
    int status = 0, still = on_trial, hung = 0;
    pid_t child = start(words, slot, on_trial);
    /* The watchdog: who is still on trial after so long hangs. */
    for (uint32_t began = wait_ms(0); waitpid(child, &status, WNOHANG) == 0; wait_ms(50)) {
      if (still) up_boot_peek(&LINUX, &still);
      if (still && !hung && wait_ms(0) - began > HANGS_AFTER_MS) hung = 1, kill(child, SIGKILL);
    }
    if (WIFEXITED(status) && WEXITSTATUS(status) == RESTART) continue;
    up_trial_failed(&LINUX, hung);
    wait_ms(500);
  }
  return fprintf(stderr, "device: there is no device in %s\n", folder), 1;
}

int main(int count, char **words) {
  if (count != 10) {
    fprintf(stderr, "device FOLDER HOST PORT SERIAL CODE HW_REV HOLD_S ROOT.pub.pem FIRST.img\n");
    return 2;
  }
  folder = words[1];
  host = words[2];
  port = words[3];
  const char *booted = getenv("BOOTED"), *trial = getenv("TRIAL");
  if (booted) {
    firmware(words, booted[0] == 'b', trial && trial[0]);
    return 1;
  }
  struct stat there;
  char path[512];
  mkdir(folder, 0700);
  snprintf(path, sizeof path, "%s/nonce", folder);
  int trial_ = 0;
  if (stat(path, &there) || up_boot_peek(&LINUX, &trial_) == UP_NO_SLOT)
    if (make(words[9], words[8])) return 2;
  return boot_loader(words);
}
