/* The device's end of the device protocol, version 1 (docs/device-protocol.md): enrol, check in, obey, verify, resume,
 * report. Portable C11: no heap, no operating system, no C library but string.h. What it needs of the machine stands in
 * struct up_port, what it needs of a cryptographic library in the four functions at the end. */
#ifndef UPDATER_H
#define UPDATER_H

#include <stdint.h>

/* The areas of the flash. A record area holds sizeof(struct up_record), the key area UP_LARGEST_KEYS + 4. */
enum up_area { UP_SLOT_A, UP_SLOT_B, UP_RECORD_0, UP_RECORD_1, UP_KEYS, UP_AREAS };

enum {
  UP_NO_SLOT = 0xff,
  UP_LARGEST_MANIFEST = 4096, /* an envelope that has more is refused */
  UP_LARGEST_KEYS = 1984,     /* a key list: some thirty keys */
  UP_MOST_UNSENT = 6,
  UP_TRIAL_BOOTS = 3
};

/* What the machine does. Functions return 0, or a number of bytes where that is said; less than 0 is a failure. */
struct up_port {
  int (*read)(int area, uint32_t at, void *to, uint32_t size);
  int (*write)(int area, uint32_t at, const void *from, uint32_t size); /* only where it was erased before */
  int (*erase)(int area);
  int (*connect)(void);                          /* to the service; ends the connection before, if there is one */
  int (*send)(const void *from, uint32_t size);  /* all of it */
  int (*receive)(void *to, uint32_t size, uint32_t within_ms); /* bytes that came; 0: the other end closed */
  uint32_t (*wait)(uint32_t ms);                 /* sleeps so long; returns ms of a clock that only goes forwards */
  void (*restart)(void);                         /* does not return; the boot loader asks up_boot what to start */
};

/* What a device is made with. class_id is as `herald board show` prints it; root the raw public key of the root;
 * nonce (16 to 64 letters and digits) is drawn once, when the device is made, and never again. */
struct up_identity {
  const char *host, *serial, *board, *line, *code, *nonce;
  uint16_t hw_rev;
  uint8_t class_id[16], root[32];
  uint32_t slot_size;
  uint32_t hold_s; /* for how long a check-in may be held open; 0: not at all */
};

struct up_slot {
  uint8_t digest[32], manifest[32], kid[8];
  uint32_t size, floor;
  char version[32];
  uint8_t full, proven, has_kid;
};

/* A report that was not sent yet. */
struct up_word {
  uint32_t boots, seq, attempt, number, clearance;
  uint8_t state, reason, slot;
};

/* What outlives a restart, kept in two areas in turn; the boot loader reads it, too. */
struct up_record {
  uint32_t magic, sequence, boots, floor, keys_number;
  uint8_t active, trial, trial_boots, went_back, switching, unsent_count, work_slot, restarted;
  struct up_slot slot[2];
  uint32_t attempt, number, trial_s;
  char token[160];
  struct up_word unsent[UP_MOST_UNSENT];
  uint32_t check;
};

/* For manufacture: the first image stands in slot a. */
int up_make(const struct up_port *port, uint32_t size, const char *version, uint32_t floor);

/* For the boot loader: which slot to start, and whether on trial; UP_NO_SLOT if the device was never made. */
int up_boot(const struct up_port *port, int *on_trial);
/* The same, without counting a trial boot. */
int up_boot_peek(const struct up_port *port, int *on_trial);
/* For the boot loader: what it started on trial crashed, or hung. */
void up_trial_failed(const struct up_port *port, int hung);

/* For the firmware, started from `slot`: its whole life. `self_test` returns 1 if all is well; `lamp` shows words to who
 * stands before the device. Does not return. */
void up_run(const struct up_port *port, const struct up_identity *identity, int slot, int on_trial,
            int (*self_test)(void), void (*lamp)(const char *));

/* For tests and tools: judges without a network. `keys` is a key list that was taken before. Returns 0, or the reason to
 * report: "signature-refused", "refused-by-device", "no-room". */
struct up_wanted {
  uint8_t digest[32], kid[8];
  uint32_t size, floor;
  char version[32];
};
const char *up_judge(const struct up_identity *identity, const uint8_t *envelope, uint32_t size, const uint8_t asked[32],
                     const uint8_t *keys, uint32_t keys_size, int standby, uint32_t floor, const char *runs,
                     struct up_wanted *wanted);
/* The number of a key list that the root signed, 0 if it is none. The bytes are changed, and restored. */
uint32_t up_key_list(const uint8_t root[32], const uint8_t *list, uint32_t size);

/* Cryptography, by whatever library the device has. */
struct up_hash {
  uint64_t state[16];
};
void up_sha256_begin(struct up_hash *hash);
void up_sha256_add(struct up_hash *hash, const void *from, uint32_t size);
void up_sha256_end(struct up_hash *hash, uint8_t digest[32]);
/* 1 if a signature over a message was made with the key (Ed25519, RFC 8032). */
int up_ed25519_good(const uint8_t key[32], const uint8_t signature[64], const uint8_t *message, uint32_t size);

#endif
