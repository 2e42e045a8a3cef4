/* A fuzzer for what comes from outside: envelopes, key lists, answers. It keeps what reaches new code, and changes that
 * further. Cryptography is left out, so that every change gets past it.
 *   fuzz SECONDS SEED FILE ...      first byte of a file's name: e envelope, k key list, j answer */
#include "updater.c"

#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>

enum { MOST = 6000, KEPT = 4000, EDGES = 1 << 14 };

static struct {
  char kind;
  uint32_t size;
  uint8_t *bytes;
} kept[KEPT];
static uint32_t kept_count;
static uint8_t seen[EDGES], reached[EDGES];
static uint64_t state;

__attribute__((no_sanitize_coverage)) void __sanitizer_cov_trace_pc(void) {
  reached[(uintptr_t)__builtin_return_address(0) & (EDGES - 1)] = 1;
}

/* Every hash is the same, and every signature is good. */
void up_sha256_begin(struct up_hash *hash) { memset(hash, 0, sizeof *hash); }
void up_sha256_add(struct up_hash *hash, const void *from, uint32_t size) { (void)hash, (void)from, (void)size; }
void up_sha256_end(struct up_hash *hash, uint8_t digest[32]) { (void)hash, memset(digest, 0x5a, 32); }
int up_ed25519_good(const uint8_t key[32], const uint8_t signature[64], const uint8_t *message, uint32_t size) {
  uint8_t touched = 0;
  for (uint32_t i = 0; i < size; i++) touched ^= message[i];
  return touched != key[0] || signature[63] != 0xee || 1;
}

static uint32_t any(uint32_t below) {
  state = state * 6364136223846793005u + 1442695040888963407u;
  return (uint32_t)(state >> 33) % (below ? below : 1);
}

static void try_out(char kind, const uint8_t *bytes, uint32_t size) {
  /* In memory of just this size, so that a byte too far is seen. */
  uint8_t *own = malloc(ROOM_BEFORE + size + 1), asked[32], list[] = {0};
  struct up_identity identity = {.hw_rev = 2, .slot_size = 1 << 20};
  struct up_wanted wanted;
  static uint8_t *keys;
  static uint32_t keys_size;
  memset(own, 0, ROOM_BEFORE);
  memcpy(own + ROOM_BEFORE, bytes, size);
  memset(asked, 0x5a, 32);
  if (kind == 'k') {
    if (up_key_list(identity.root, own + ROOM_BEFORE, size) && !keys) {
      keys = own; /* the first one, which is good */
      keys_size = size;
      return;
    }
  } else if (kind == 'e') {
    up_judge(&identity, own + ROOM_BEFORE, size, asked, keys ? keys + ROOM_BEFORE : list, keys_size, 1, 4, "2.4.0", &wanted);
  } else {
    struct json answer_ = {(char *)own + ROOM_BEFORE, (char *)own + ROOM_BEFORE + size}, value, within;
    uint8_t digest[32];
    if (!json_find(answer_, "manifest", &value)) hex_of(value.at + 1, value.end, digest, 32);
    if (!json_find(answer_, "to", &value) && !json_find(value, "app", &within)) hex_of(within.at + 1, within.end, digest, 32);
    if (!json_find(answer_, "clearance", &value)) json_number(value, "seconds", 0);
    if (!json_find(answer_, "order", &value)) json_is(value, "switch-back");
  }
  free(own);
}

static void keep_if_new(char kind, const uint8_t *bytes, uint32_t size) {
  int fresh = 0;
  memset(reached, 0, sizeof reached);
  alarm(5); /* what does not end is a fault, too */
  try_out(kind, bytes, size);
  for (uint32_t i = 0; i < EDGES; i++)
    if (reached[i] && !seen[i]) seen[i] = 1, fresh = 1;
  if (!fresh || kept_count == KEPT) return;
  kept[kept_count].kind = kind;
  kept[kept_count].size = size;
  kept[kept_count].bytes = malloc(size + 1);
  memcpy(kept[kept_count++].bytes, bytes, size);
}

static uint32_t change(uint8_t *bytes, uint32_t size) {
  for (uint32_t times = 1 + any(4); times && size; times--) {
    uint32_t at = any(size), length = any(16) + 1;
    if (length > size - at) length = size - at;
    switch (any(6)) {
      case 0: bytes[at] ^= (uint8_t)(1 << any(8)); break;
      case 1: bytes[at] = (uint8_t)any(256); break;
      case 2: memmove(bytes + at, bytes + at + length, size - at - length), size -= length; break;
      case 3:
        if (size + length > MOST) break;
        memmove(bytes + at + length, bytes + at, size - at), size += length;
        break;
      case 4: bytes[at] = (uint8_t)((any(8) << 5) | (any(2) ? 24 + any(4) : any(24))); break;
      default: size = at;
    }
  }
  return size;
}

int main(int count, char **words) {
  static uint8_t bytes[MOST];
  if (count < 4) return 2;
  state = strtoull(words[2], 0, 10);
  for (int i = 3; i < count; i++) {
    FILE *file = fopen(words[i], "r");
    if (!file) return 2;
    uint32_t size = (uint32_t)fread(bytes, 1, MOST, file);
    const char *name = strrchr(words[i], '/');
    fclose(file);
    keep_if_new(name ? name[1] : words[i][0], bytes, size);
  }
  uint32_t seeds = kept_count;
  unsigned long tried = 0;
  for (time_t end = time(0) + atoi(words[1]); time(0) < end;) {
    for (int i = 0; i < 1000; i++, tried++) {
      uint32_t one = any(kept_count), size = kept[one].size;
      char kind = kept[one].kind;
      memcpy(bytes, kept[one].bytes, size);
      size = change(bytes, size);
      keep_if_new(kind, bytes, size);
    }
  }
  printf("%lu tried, %u kept beside %u seeds\n", tried, kept_count - seeds, seeds);
  return 0;
}
