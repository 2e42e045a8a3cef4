/* Judges envelopes and key lists without a network: the test vectors' judge.
 *   judge keys ROOT FILE                                          the list's number, 0 if it is none
 *   judge envelope ROOT FILE ASKED KEYS STANDBY FLOOR RUNS HW_REV SLOT_SIZE   good DIGEST SIZE VERSION, or the reason */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "updater.h"

enum { BEFORE = 64, MOST = 128 * 1024 };

static uint32_t read_file(const char *path, uint8_t *to) {
  FILE *file = fopen(path, "r");
  if (!file) exit(2);
  uint32_t size = (uint32_t)fread(to, 1, MOST, file);
  fclose(file);
  return size;
}

static void read_hex(const char *from, uint8_t *to, int size) {
  for (int i = 0; i < size; i++) to[i] = (uint8_t)strtoul((char[3]){from[2 * i], from[2 * i + 1], 0}, 0, 16);
}

int main(int count, char **words) {
  static uint8_t file[BEFORE + MOST], keys[BEFORE + MOST];
  static const uint8_t class_id[] = {CLASS_ID};
  struct up_identity identity = {.board = BOARD, .line = LINE};
  struct up_wanted wanted;
  uint8_t asked[32];
  if (count < 4) return 2;
  read_hex(words[2], identity.root, 32);
  memcpy(identity.class_id, class_id, sizeof class_id);
  uint32_t size = read_file(words[3], file + BEFORE);
  if (!strcmp(words[1], "keys")) return printf("%u\n", up_key_list(identity.root, file + BEFORE, size)), 0;
  if (count != 11) return 2;
  read_hex(words[4], asked, 32);
  uint32_t keys_size = read_file(words[5], keys + BEFORE);
  if (!up_key_list(identity.root, keys + BEFORE, keys_size)) return 2;
  identity.hw_rev = (uint16_t)atoi(words[9]);
  identity.slot_size = (uint32_t)atoi(words[10]);
  const char *why = up_judge(&identity, file + BEFORE, size, asked, keys + BEFORE, keys_size, atoi(words[6]),
                             (uint32_t)atoi(words[7]), words[8], &wanted);
  if (why) return printf("%s\n", why), 0;
  printf("good ");
  for (int i = 0; i < 32; i++) printf("%02x", wanted.digest[i]);
  return printf(" %u %s\n", wanted.size, wanted.version), 0;
}
