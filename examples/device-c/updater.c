/* See updater.h. The parts, in this order: text, JSON, CBOR, trust, records, HTTP, words, updating, life. */
#include "updater.h"

#include <string.h>

enum { MAGIC = 0x4d485550, BLOCK = 512, ROOM_BEFORE = 64, MOST_DEEP = 16 };
enum { DOWNLOADING, STAGED, INSTALLING, PROVING, CONFIRMED, FAILED, REVERTED };
enum { NO_REASON, BROKEN, MISMATCH, SIGNATURE, NO_ROOM, FLASH, REFUSED, POWER, CRASHED, HUNG, SELF_TEST, NO_CONTACT };
enum { FIRST_PAUSE_MS = 1000, LONGEST_PAUSE_MS = 60000, ANSWER_MS = 30000, FETCH_AGAIN = 6 };

static const char *const STATES[] = {"downloading", "staged", "installing", "proving", "confirmed", "failed", "reverted"};
static const char *const REASONS[] = {"",           "download-broken",   "digest-mismatch", "signature-refused",
                                      "no-room",    "flash-error",       "refused-by-device", "power-lost",
                                      "crashed",    "hung",              "self-test-failed", "no-contact"};

static struct {
  const struct up_port *port;
  const struct up_identity *identity;
  void (*lamp)(const char *);
  struct up_record record;
  uint8_t buffer[ROOM_BEFORE + UP_LARGEST_MANIFEST];
  uint8_t keys[ROOM_BEFORE + UP_LARGEST_KEYS];
  char text[896];
  uint32_t seq, scale, started_ms, random;
  uint8_t slot, on_trial, shut_out;
} up;

/* Of the answer that came last. */
static struct {
  uint32_t size, retry_after, next_s, range_from;
  uint8_t has_size, other_tag;
} answer;

/* Text ------------------------------------------------------------------------------------------------------------- */

struct out {
  char *at, *end;
};

static void put(struct out *out, const char *words) {
  while (*words && out->at < out->end) *out->at++ = *words++;
}

static void put_number(struct out *out, uint32_t number) {
  char digits[11];
  int at = sizeof digits - 1;
  digits[at] = 0;
  do {
    digits[--at] = (char)('0' + number % 10);
  } while (number /= 10);
  put(out, digits + at);
}

static void put_hex(struct out *out, const uint8_t *from, uint32_t size) {
  static const char digits[] = "0123456789abcdef";
  for (uint32_t i = 0; i < size; i++) {
    char pair[3] = {digits[from[i] >> 4], digits[from[i] & 15], 0};
    put(out, pair);
  }
}

static void put_field(struct out *out, const char *name, const char *value) {
  put(out, "\"");
  put(out, name);
  put(out, "\":\"");
  put(out, value);
  put(out, "\",");
}

static void put_count(struct out *out, const char *name, uint32_t value) {
  put(out, "\"");
  put(out, name);
  put(out, "\":");
  put_number(out, value);
  put(out, ",");
}

/* The comma after the last field gives way. */
static void put_end(struct out *out, const char *words) {
  out->at--;
  put(out, words);
}

static uint32_t number_of(const char *at, const char *end) {
  uint32_t number = 0;
  for (; at < end && *at >= '0' && *at <= '9'; at++) {
    uint32_t digit = (uint32_t)(*at - '0');
    if (number > (UINT32_MAX - digit) / 10) return UINT32_MAX;
    number = number * 10 + digit;
  }
  return number;
}

static int hex_of(const char *at, const char *end, uint8_t *to, uint32_t size) {
  if ((uint32_t)(end - at) < 2 * size) return -1;
  for (uint32_t i = 0; i < 2 * size; i++) {
    char letter = at[i];
    int digit = letter >= '0' && letter <= '9' ? letter - '0' : letter >= 'a' && letter <= 'f' ? letter - 'a' + 10 : -1;
    if (digit < 0) return -1;
    to[i / 2] = (uint8_t)(i % 2 ? to[i / 2] | digit : digit << 4);
  }
  return 0;
}

/* JSON, as much as answers have ------------------------------------------------------------------------------------ */

struct json {
  const char *at, *end;
};

static void json_space(struct json *json) {
  while (json->at < json->end && (*json->at == ' ' || *json->at == '\n' || *json->at == '\r' || *json->at == '\t'))
    json->at++;
}

/* Over a string, from its first quote; -1 if it does not end. */
static int json_string(struct json *json) {
  for (json->at++; json->at < json->end; json->at++) {
    if (*json->at == '\\')
      json->at++;
    else if (*json->at == '"')
      return json->at++, 0;
  }
  return -1;
}

/* Over a value of any kind. */
static int json_skip(struct json *json) {
  int depth = 0;
  do {
    json_space(json);
    if (json->at >= json->end) return -1;
    char letter = *json->at;
    if (letter == '"') {
      if (json_string(json)) return -1;
    } else if (letter == '{' || letter == '[') {
      depth++;
      json->at++;
    } else if (letter == '}' || letter == ']') {
      if (--depth < 0) return -1;
      json->at++;
    } else if (letter == ',' || letter == ':') {
      if (!depth) return -1;
      json->at++;
    } else {
      const char *from = json->at;
      while (json->at < json->end && *json->at && !strchr(" \n\r\t,:]}", *json->at)) json->at++;
      if (json->at == from) return -1;
    }
  } while (depth);
  return 0;
}

/* The value of a name in an object. */
static int json_find(struct json object, const char *name, struct json *value) {
  size_t size = strlen(name);
  json_space(&object);
  if (object.at >= object.end || *object.at++ != '{') return -1;
  for (;;) {
    json_space(&object);
    if (object.at >= object.end || *object.at != '"') return -1;
    const char *key = object.at + 1;
    if (json_string(&object)) return -1;
    int found = (size_t)(object.at - 1 - key) == size && !memcmp(key, name, size);
    json_space(&object);
    if (object.at >= object.end || *object.at++ != ':') return -1;
    json_space(&object);
    value->at = object.at;
    if (json_skip(&object)) return -1;
    value->end = object.at;
    if (found) return 0;
    json_space(&object);
    if (object.at >= object.end || *object.at++ != ',') return -1;
  }
}

static uint32_t json_number(struct json object, const char *name, uint32_t otherwise) {
  struct json value;
  return json_find(object, name, &value) ? otherwise : number_of(value.at, value.end);
}

static int json_is(struct json value, const char *words) {
  size_t size = strlen(words);
  return (size_t)(value.end - value.at) == size + 2 && !memcmp(value.at + 1, words, size);
}

/* CBOR (RFC 8949), deterministic, and nothing else ------------------------------------------------------------------ */

struct cbor {
  const uint8_t *at, *end;
  int bad;
};

enum { UNSIGNED, NEGATIVE, BYTES, TEXT, LIST, MAP, TAG, SIMPLE };

/* The head of an item: its kind, and its argument. */
static int cbor_head(struct cbor *cbor, uint32_t *argument) {
  if (cbor->bad || cbor->at >= cbor->end) return cbor->bad = 1, -1;
  int kind = *cbor->at >> 5, info = *cbor->at++ & 31;
  *argument = (uint32_t)info;
  if (info >= 24) {
    int size = info == 24 ? 1 : info == 25 ? 2 : info == 26 ? 4 : 0; /* nothing here is as large as 2^32 */
    if (!size || cbor->end - cbor->at < size || kind == SIMPLE) return cbor->bad = 1, -1;
    for (*argument = 0; size; size--) *argument = *argument << 8 | *cbor->at++;
    if (*argument < (info == 24 ? 24u : info == 25 ? 0x100u : 0x10000u)) return cbor->bad = 1, -1;
  }
  if ((kind == BYTES || kind == TEXT) && *argument > (uint32_t)(cbor->end - cbor->at)) return cbor->bad = 1, -1;
  if ((kind == LIST || kind == MAP) && *argument > (uint32_t)(cbor->end - cbor->at)) return cbor->bad = 1, -1;
  return kind;
}

static uint32_t cbor_of(struct cbor *cbor, int kind) {
  uint32_t argument = 0;
  if (cbor_head(cbor, &argument) != kind) cbor->bad = 1;
  return cbor->bad ? 0 : argument;
}

/* A string's bytes, as a reader of their own. */
static struct cbor cbor_within(struct cbor *cbor, int kind) {
  uint32_t size = cbor_of(cbor, kind);
  struct cbor within = {cbor->at, cbor->at + size, cbor->bad};
  cbor->at += size;
  return within;
}

static int32_t cbor_integer(struct cbor *cbor) {
  uint32_t argument = 0;
  int kind = cbor_head(cbor, &argument);
  if ((kind != UNSIGNED && kind != NEGATIVE) || argument > INT32_MAX) return cbor->bad = 1, 0;
  return kind == UNSIGNED ? (int32_t)argument : -1 - (int32_t)argument;
}

/* Over an item, with all that is in it. */
static void cbor_skip(struct cbor *cbor) {
  uint32_t left[MOST_DEEP] = {1};
  int depth = 0;
  while (depth >= 0 && !cbor->bad) {
    if (!left[depth]) {
      depth--;
      continue;
    }
    left[depth]--;
    uint32_t argument = 0;
    int kind = cbor_head(cbor, &argument);
    if (kind == BYTES || kind == TEXT) {
      cbor->at += argument;
    } else if (kind == LIST || kind == MAP || kind == TAG) {
      if (depth + 1 == MOST_DEEP) cbor->bad = 1;
      else left[++depth] = kind == MAP ? 2 * argument : kind == TAG ? 1 : argument;
    } else if (kind == SIMPLE && (argument < 20 || argument > 22)) {
      cbor->bad = 1;
    }
  }
}

/* The value of an integer key in a map whose head was read; the map is read to its end. */
static int cbor_find(struct cbor map, uint32_t pairs, int32_t wanted, struct cbor *value) {
  int found = 0;
  while (pairs-- && !map.bad) {
    struct cbor before = map;
    uint32_t argument = 0;
    int kind = cbor_head(&map, &argument);
    if (kind != UNSIGNED && kind != NEGATIVE) {
      map = before;
      cbor_skip(&map);
      cbor_skip(&map);
      continue;
    }
    int32_t key = kind == UNSIGNED ? (int32_t)argument : -1 - (int32_t)argument;
    if (key == wanted && !found++) *value = map;
    cbor_skip(&map);
  }
  return found == 1 && !map.bad ? 0 : -1;
}

static int cbor_ended(const struct cbor *cbor) { return !cbor->bad && cbor->at == cbor->end; }

static int is_bytes(struct cbor string, const char *words) {
  size_t size = strlen(words);
  return !string.bad && (size_t)(string.end - string.at) == size && !memcmp(string.at, words, size);
}

/* Trust ------------------------------------------------------------------------------------------------------------- */

struct signed1 {
  uint8_t kid[8];
  struct cbor protected_, payload;
  const uint8_t *signature;
  int attached;
};

/* Reads a COSE_Sign1 (RFC 9052) that is signed by Ed25519. */
static int read_sign1(struct cbor *cbor, struct signed1 *one) {
  if (cbor_of(cbor, TAG) != 18 || cbor_of(cbor, LIST) != 4) return -1;
  one->protected_ = cbor_within(cbor, BYTES);
  if (cbor_of(cbor, MAP) || cbor->bad) return -1;
  struct cbor header = one->protected_, before = *cbor;
  uint32_t argument = 0;
  one->attached = cbor_head(cbor, &argument) == BYTES;
  if (one->attached) {
    *cbor = before;
    one->payload = cbor_within(cbor, BYTES);
  } else if (before.at >= before.end || *before.at != 0xf6) {
    return -1;
  }
  struct cbor signature = cbor_within(cbor, BYTES);
  if (signature.bad || signature.end - signature.at != 64) return -1;
  one->signature = signature.at;
  if (cbor_of(&header, MAP) != 2 || cbor_integer(&header) != 1) return -1;
  int32_t algorithm = cbor_integer(&header);
  if ((algorithm != -19 && algorithm != -8) || cbor_integer(&header) != 4) return -1;
  struct cbor kid = cbor_within(&header, BYTES);
  if (!cbor_ended(&header) || kid.end - kid.at != 8) return -1;
  memcpy(one->kid, kid.at, 8);
  return cbor->bad ? -1 : 0;
}

static uint32_t put_head(uint8_t *to, int kind, uint32_t argument) {
  if (argument < 24) return to[0] = (uint8_t)(kind << 5 | argument), 1;
  if (argument < 0x100) return to[0] = (uint8_t)(kind << 5 | 24), to[1] = (uint8_t)argument, 2;
  return to[0] = (uint8_t)(kind << 5 | 25), to[1] = (uint8_t)(argument >> 8), to[2] = (uint8_t)argument, 3;
}

/* What is signed begins so; the payload follows. Returns its size, at most 48. */
static uint32_t put_signed(uint8_t *to, const struct signed1 *one, uint32_t payload) {
  static const uint8_t context[] = {0x84, 0x6a, 'S', 'i', 'g', 'n', 'a', 't', 'u', 'r', 'e', '1'};
  uint32_t size = sizeof context, protected_ = (uint32_t)(one->protected_.end - one->protected_.at);
  memcpy(to, context, size);
  size += put_head(to + size, BYTES, protected_);
  memcpy(to + size, one->protected_.at, protected_);
  size += protected_;
  to[size++] = 0x40; /* no external data */
  return size + put_head(to + size, BYTES, payload);
}

static void fingerprint(const uint8_t key[32], uint8_t kid[8]) {
  struct up_hash hash;
  uint8_t digest[32];
  up_sha256_begin(&hash);
  up_sha256_add(&hash, key, 32);
  up_sha256_end(&hash, digest);
  memcpy(kid, digest, 8);
}

/* The lines of a key list: [{1: key, 2: status, 3: name}, …], and its number. */
static uint32_t key_lines(const struct signed1 *one, struct cbor *lines, uint32_t *count) {
  struct cbor body = one->payload, value = {0, 0, 1};
  uint32_t pairs = cbor_of(&body, MAP), number = 0;
  if (body.bad || cbor_find(body, pairs, 1, &value) || !is_bytes(cbor_within(&value, TEXT), "mellow-herald-key-list"))
    return 0;
  if (cbor_find(body, pairs, 2, &value) || (number = cbor_of(&value, UNSIGNED)) == 0) return 0;
  if (cbor_find(body, pairs, 3, lines)) return 0;
  *count = cbor_of(lines, LIST);
  return lines->bad ? 0 : number;
}

/* The key of a fingerprint: 1 if it may be trusted (active or retired), 0 if it is unknown or revoked. */
static int trusted_key(const struct signed1 *list, const uint8_t kid[8], uint8_t key[32]) {
  struct cbor lines = {0, 0, 1}, value = {0, 0, 1};
  uint32_t count = 0;
  if (!key_lines(list, &lines, &count)) return 0;
  while (count-- && !lines.bad) {
    struct cbor line = lines;
    cbor_skip(&lines);
    uint32_t pairs = cbor_of(&line, MAP);
    uint8_t own[8];
    if (cbor_find(line, pairs, 1, &value)) return 0;
    struct cbor raw = cbor_within(&value, BYTES);
    if (raw.bad || raw.end - raw.at != 32) return 0;
    fingerprint(raw.at, own);
    if (memcmp(own, kid, 8)) continue;
    if (cbor_find(line, pairs, 2, &value)) return 0;
    struct cbor status = cbor_within(&value, TEXT);
    memcpy(key, raw.at, 32);
    return is_bytes(status, "active") || is_bytes(status, "retired");
  }
  return 0;
}

uint32_t up_key_list(const uint8_t root[32], const uint8_t *list, uint32_t size) {
  struct cbor cbor = {list, list + size, 0}, lines = {0, 0, 1};
  struct signed1 one;
  uint8_t kid[8], head[64], kept[64];
  uint32_t count = 0;
  if (size > UP_LARGEST_KEYS || read_sign1(&cbor, &one) || !cbor_ended(&cbor) || !one.attached) return 0;
  if (one.protected_.end - one.protected_.at > 16) return 0;
  fingerprint(root, kid);
  if (memcmp(kid, one.kid, 8)) return 0;
  /* What is signed must stand in one piece: its beginning is put before the payload, and taken away again. The caller
   * keeps ROOM_BEFORE bytes before the list. */
  uint32_t payload = (uint32_t)(one.payload.end - one.payload.at), begun = put_signed(head, &one, payload);
  uint8_t *before = (uint8_t *)(uintptr_t)one.payload.at - begun;
  memcpy(kept, before, begun);
  memcpy(before, head, begun);
  int good = up_ed25519_good(root, one.signature, before, begun + payload);
  memcpy(before, kept, begun);
  return good ? key_lines(&one, &lines, &count) : 0;
}

struct given {
  struct cbor class_id, hw_revs, digest, needs;
  uint32_t size;
  int has_size, slot;
};

/* The parameters that a command sets. */
static void set_parameters(struct cbor *sequence, struct given *given) {
  for (uint32_t pairs = cbor_of(sequence, MAP); pairs && !sequence->bad; pairs--) {
    int32_t parameter = cbor_integer(sequence);
    struct cbor value = *sequence;
    cbor_skip(sequence);
    if (parameter == 2) given->class_id = cbor_within(&value, BYTES);
    if (parameter == -1) given->hw_revs = value;
    if (parameter == 3) given->digest = cbor_within(&value, BYTES);
    if (parameter == 5) given->slot = cbor_integer(&value);
    if (parameter == 14) given->size = cbor_of(&value, UNSIGNED), given->has_size = 1;
    if (parameter == 28) given->needs = cbor_within(&value, BYTES);
    if (value.bad) sequence->bad = 1;
  }
}

/* A choice between slots: what is set for `standby` counts. */
static void choose(struct cbor *sequence, int standby, struct given *given) {
  for (uint32_t choices = cbor_of(sequence, LIST); choices && !sequence->bad; choices--) {
    struct cbor choice = cbor_within(sequence, BYTES);
    struct given one = *given;
    one.slot = -1;
    for (uint32_t left = cbor_of(&choice, LIST); left && !choice.bad; left -= 2) {
      int32_t command = cbor_integer(&choice);
      if (command == 20) set_parameters(&choice, &one);
      else if (command == 5) cbor_skip(&choice);
      else choice.bad = 1;
      if (left == 1) choice.bad = 1;
    }
    if (!cbor_ended(&choice)) sequence->bad = 1;
    else if (one.slot == standby) *given = one;
  }
}

/* All parameters that a sequence sets for the slot that stands by. */
static int gather(struct cbor sequence, int standby, struct given *given) {
  uint32_t left = cbor_of(&sequence, LIST);
  if (left % 2) return -1;
  for (; left && !sequence.bad; left -= 2) {
    int32_t command = cbor_integer(&sequence);
    if (command == 15) {
      choose(&sequence, standby, given);
    } else if (command == 20) {
      set_parameters(&sequence, given);
    } else if (command == 12) {
      if (cbor_integer(&sequence)) return -1; /* there is one component, number 0 */
    } else if (command == 1 || command == 2 || command == 3 || command == 5 || command == 21 || command == 28 ||
               command == -1) {
      cbor_skip(&sequence);
    } else {
      return -1;
    }
  }
  return cbor_ended(&sequence) ? 0 : -1;
}

/* Whether a version (SemVer) is below three numbers; a pre-release comes before its version. */
static int is_below(const char *version, const int32_t least[3]) {
  const char *end = version + strlen(version);
  for (int i = 0; i < 3; i++) {
    uint32_t number = number_of(version, end);
    if (number != (uint32_t)least[i]) return number < (uint32_t)least[i];
    while (version < end && *version >= '0' && *version <= '9') version++;
    if (version < end && *version == '.') version++;
  }
  return version < end && *version == '-';
}

/* [-16, SHA-256] in a byte string. */
static int read_digest(struct cbor string, uint8_t digest[32]) {
  if (cbor_of(&string, LIST) != 2 || cbor_integer(&string) != -16) return -1;
  struct cbor hash = cbor_within(&string, BYTES);
  if (!cbor_ended(&string) || hash.end - hash.at != 32) return -1;
  memcpy(digest, hash.at, 32);
  return 0;
}

static const char *const FORGED = "signature-refused", *const UNFIT = "refused-by-device";

/* What a manifest says, once it is trusted. */
static const char *read_manifest(const struct up_identity *identity, struct cbor manifest, int standby, uint32_t floor,
                                 const char *runs, struct up_wanted *wanted) {
  struct cbor value = {0, 0, 1}, text = {0, 0, 1};
  struct given given = {{0, 0, 1}, {0, 0, 1}, {0, 0, 1}, {0, 0, 1}, 0, 0, -1};
  uint32_t pairs = cbor_of(&manifest, MAP);
  if (manifest.bad || cbor_find(manifest, pairs, 1, &value) || cbor_integer(&value) != 1) return FORGED;
  if (cbor_find(manifest, pairs, 2, &value)) return FORGED;
  wanted->floor = cbor_of(&value, UNSIGNED);
  if (value.bad || cbor_find(manifest, pairs, 3, &value)) return FORGED;
  struct cbor common = cbor_within(&value, BYTES), components = {0, 0, 1};
  uint32_t parts = cbor_of(&common, MAP);
  if (common.bad || cbor_find(common, parts, 2, &components) || cbor_find(common, parts, 4, &value)) return FORGED;
  int one = cbor_of(&components, LIST) == 1 && cbor_of(&components, LIST) == 1 &&
            is_bytes(cbor_within(&components, BYTES), "app");
  if (components.bad) return FORGED;
  if (!one) return UNFIT; /* of other components, or of more than app */
  if (gather(cbor_within(&value, BYTES), standby, &given)) return FORGED;
  if (cbor_find(manifest, pairs, 16, &value) || gather(cbor_within(&value, BYTES), standby, &given)) return FORGED;
  if (given.class_id.bad || given.hw_revs.bad || cbor_of(&given.hw_revs, LIST) != 2) return FORGED;
  int32_t lowest = cbor_integer(&given.hw_revs), highest = cbor_integer(&given.hw_revs);
  if (given.hw_revs.bad) return FORGED;
  if (given.class_id.end - given.class_id.at != 16 || memcmp(given.class_id.at, identity->class_id, 16)) return UNFIT;
  if (identity->hw_rev < lowest || identity->hw_rev > highest) return UNFIT;
  if (wanted->floor < floor) return UNFIT;
  if (!given.needs.bad) {
    int32_t least[3];
    if (cbor_of(&given.needs, LIST) != 2 || cbor_integer(&given.needs) != 2 || cbor_of(&given.needs, LIST) != 3)
      return FORGED;
    for (int i = 0; i < 3; i++) least[i] = cbor_integer(&given.needs);
    if (given.needs.bad) return FORGED;
    if (is_below(runs, least)) return UNFIT;
  }
  if (!given.has_size || given.digest.bad) return given.digest.bad && !given.has_size ? UNFIT : FORGED;
  if (read_digest(given.digest, wanted->digest)) return FORGED;
  wanted->size = given.size;
  if (wanted->size > identity->slot_size) return "no-room";
  memset(wanted->version, 0, sizeof wanted->version);
  if (!cbor_find(manifest, pairs, 23, &value)) {
    text = cbor_within(&value, BYTES);
    if (cbor_of(&text, MAP) == 1 && is_bytes(cbor_within(&text, TEXT), "en")) {
      uint32_t words = cbor_of(&text, MAP);
      if (!cbor_find(text, words, -1, &value)) {
        struct cbor version = cbor_within(&value, TEXT);
        uint32_t size = version.bad ? 0 : (uint32_t)(version.end - version.at);
        if (size < sizeof wanted->version) {
          memcpy(wanted->version, version.at, size);
          wanted->version[size] = 0;
        }
      }
    }
  }
  return 0;
}

const char *up_judge(const struct up_identity *identity, const uint8_t *envelope, uint32_t size, const uint8_t asked[32],
                     const uint8_t *keys, uint32_t keys_size, int standby, uint32_t floor, const char *runs,
                     struct up_wanted *wanted) {
  struct cbor cbor = {envelope, envelope + size, 0}, list = {keys, keys + keys_size, 0};
  if (cbor_of(&cbor, TAG) != 107 || cbor_of(&cbor, MAP) != 2 || cbor_integer(&cbor) != 2) return FORGED;
  struct cbor wrapper = cbor_within(&cbor, BYTES);
  if (cbor_integer(&cbor) != 3) return FORGED;
  const uint8_t *wrapped = cbor.at;
  struct cbor manifest = cbor_within(&cbor, BYTES);
  if (!cbor_ended(&cbor) || cbor_of(&wrapper, LIST) != 2) return FORGED;
  struct cbor digest = cbor_within(&wrapper, BYTES), block = cbor_within(&wrapper, BYTES);
  if (!cbor_ended(&wrapper) || digest.end - digest.at > 48) return FORGED;
  struct signed1 one, keys_one;
  uint8_t hash[32], said[32], key[32], message[112];
  struct up_hash hashing;
  up_sha256_begin(&hashing);
  up_sha256_add(&hashing, wrapped, (uint32_t)(manifest.end - wrapped));
  up_sha256_end(&hashing, hash);
  if (read_digest(digest, said) || memcmp(hash, said, 32) || memcmp(hash, asked, 32)) return FORGED;
  if (read_sign1(&block, &one) || !cbor_ended(&block) || one.attached) return FORGED;
  if (one.protected_.end - one.protected_.at > 16) return FORGED;
  if (read_sign1(&list, &keys_one) || !keys_one.attached || !trusted_key(&keys_one, one.kid, key)) return FORGED;
  uint32_t payload = (uint32_t)(digest.end - digest.at), begun = put_signed(message, &one, payload);
  memcpy(message + begun, digest.at, payload);
  if (!up_ed25519_good(key, one.signature, message, begun + payload)) return FORGED;
  memcpy(wanted->kid, one.kid, 8);
  return read_manifest(identity, manifest, standby, floor, runs, wanted);
}

/* Records ----------------------------------------------------------------------------------------------------------- */

static uint32_t sum(const void *from, uint32_t size) { /* CRC-32 (IEEE 802.3) */
  const uint8_t *at = from;
  uint32_t crc = ~0u;
  while (size--) {
    crc ^= *at++;
    for (int bit = 0; bit < 8; bit++) crc = crc >> 1 ^ (crc & 1 ? 0xedb88320u : 0);
  }
  return ~crc;
}

static int read_record(const struct up_port *port, int area, struct up_record *record) {
  if (port->read(area, 0, record, sizeof *record) || record->magic != MAGIC) return -1;
  return record->check == sum(record, sizeof *record - sizeof record->check) ? 0 : -1;
}

/* The newest record that is whole; -1 if there is none. */
static int recall(const struct up_port *port, struct up_record *record) {
  uint32_t other = 0;
  int whole = !read_record(port, UP_RECORD_1, record);
  if (whole) other = record->sequence;
  if (!read_record(port, UP_RECORD_0, record) && (!whole || record->sequence > other)) return 0;
  return whole ? read_record(port, UP_RECORD_1, record) : -1;
}

/* In the area whose record is older: power may fail at any moment. */
static int keep(const struct up_port *port, struct up_record *record) {
  record->magic = MAGIC;
  record->sequence++;
  record->check = sum(record, sizeof *record - sizeof record->check);
  int area = record->sequence % 2 ? UP_RECORD_1 : UP_RECORD_0;
  return port->erase(area) || port->write(area, 0, record, sizeof *record);
}

static int hash_slot(const struct up_port *port, int slot, uint32_t size, uint8_t digest[32]) {
  uint8_t block[BLOCK];
  struct up_hash hash;
  up_sha256_begin(&hash);
  for (uint32_t at = 0; at < size; at += sizeof block) {
    uint32_t piece = size - at < sizeof block ? size - at : sizeof block;
    if (port->read(slot, at, block, piece)) return -1;
    up_sha256_add(&hash, block, piece);
  }
  up_sha256_end(&hash, digest);
  return 0;
}

int up_make(const struct up_port *port, uint32_t size, const char *version, uint32_t floor) {
  struct up_record record;
  memset(&record, 0, sizeof record);
  record.trial = UP_NO_SLOT;
  record.slot[0].full = record.slot[0].proven = 1;
  record.slot[0].size = size;
  record.floor = record.slot[0].floor = floor;
  strncpy(record.slot[0].version, version, sizeof record.slot[0].version - 1);
  return hash_slot(port, UP_SLOT_A, size, record.slot[0].digest) || keep(port, &record);
}

int up_boot_peek(const struct up_port *port, int *on_trial) {
  struct up_record record;
  if (recall(port, &record)) return UP_NO_SLOT;
  *on_trial = record.trial != UP_NO_SLOT;
  return *on_trial ? record.trial : record.active;
}

int up_boot(const struct up_port *port, int *on_trial) {
  struct up_record record;
  if (recall(port, &record)) return UP_NO_SLOT;
  *on_trial = 0;
  if (record.trial == UP_NO_SLOT) return record.active;
  if (record.trial_boots >= UP_TRIAL_BOOTS) {
    record.trial = UP_NO_SLOT;
    record.went_back = POWER;
  } else {
    record.trial_boots++;
    *on_trial = 1;
  }
  keep(port, &record);
  return *on_trial ? record.trial : record.active;
}

void up_trial_failed(const struct up_port *port, int hung) {
  struct up_record record;
  if (recall(port, &record) || record.trial == UP_NO_SLOT) return;
  record.trial = UP_NO_SLOT;
  record.went_back = hung ? HUNG : CRASHED;
  keep(port, &record);
}

/* HTTP -------------------------------------------------------------------------------------------------------------- */

static uint32_t now(void) { return up.port->wait(0); }

/* Service seconds, in real milliseconds. */
static uint32_t real_ms(uint32_t seconds) {
  uint32_t scaled = seconds > UINT32_MAX / 1000 ? UINT32_MAX / 1000 : seconds;
  return scaled * 1000 / up.scale;
}

static uint32_t jitter(uint32_t most) {
  up.random = up.random * 1664525u + 1013904223u;
  return most ? (up.random >> 8) % most : 0;
}

static int header_is(const char *line, const char *name, const char **value) {
  for (; *name; name++, line++)
    if ((*line | 32) != *name) return 0;
  if (*line++ != ':') return 0;
  while (*line == ' ') line++;
  *value = line;
  return 1;
}

static void read_header(const char *line, const char *tag) {
  const char *value, *end = line + strlen(line);
  if (header_is(line, "content-length", &value)) answer.size = number_of(value, end), answer.has_size = 1;
  if (header_is(line, "retry-after", &value)) answer.retry_after = number_of(value, end);
  if (header_is(line, "herald-next-checkin", &value)) answer.next_s = number_of(value, end);
  if (header_is(line, "herald-time-scale", &value)) up.scale = number_of(value, end);
  if (header_is(line, "content-range", &value)) {
    while (value < end && (*value < '0' || *value > '9')) value++;
    answer.range_from = number_of(value, end);
  }
  if (tag && header_is(line, "etag", &value)) answer.other_tag = strncmp(value, tag, strlen(tag)) != 0;
  if (!up.scale) up.scale = 1;
}

/* Takes the bytes of a body, which begins at `at`; less than 0 to break off. */
typedef int (*sink)(uint32_t at, const uint8_t *from, uint32_t size);

static int to_buffer(uint32_t at, const uint8_t *from, uint32_t size) {
  if (at + size > UP_LARGEST_MANIFEST) return -1;
  memcpy(up.buffer + ROOM_BEFORE + at, from, size);
  return 0;
}

static int to_keys(uint32_t at, const uint8_t *from, uint32_t size) {
  if (at + size > UP_LARGEST_KEYS) return -1;
  memcpy(up.keys + ROOM_BEFORE + at, from, size);
  return 0;
}

static int sent(const char *words) { return up.port->send(words, (uint32_t)strlen(words)); }

static int send_head(const char *method, const char *path, uint32_t size, uint32_t from, const char *tag, uint32_t hold) {
  char numbers[64];
  struct out out = {numbers, numbers + sizeof numbers - 1};
  /* Asked by HTTP/1.0, nobody answers in chunks. */
  if (sent(method) || sent(" /device/v1/") || sent(path) || sent(" HTTP/1.0\r\nHost: ") || sent(up.identity->host)) return -1;
  if (up.record.token[0] && (sent("\r\nAuthorization: Bearer ") || sent(up.record.token))) return -1;
  if (size) {
    put(&out, "\r\nContent-Length: ");
    put_number(&out, size);
  }
  if (tag) {
    put(&out, "\r\nRange: bytes=");
    put_number(&out, from);
    put(&out, "-");
  }
  if (hold) {
    put(&out, "\r\nPrefer: wait=");
    put_number(&out, hold);
  }
  *out.at = 0;
  if (sent(numbers) || (size && sent("\r\nContent-Type: application/json"))) return -1;
  if (tag && (sent("\r\nIf-Range: ") || sent(tag))) return -1;
  return sent("\r\n\r\n");
}

/* One call; its status, or 0 if no whole answer came. */
static int call(const char *method, const char *path, uint32_t size, uint32_t from, const char *tag, uint32_t hold, sink take) {
  uint8_t block[256];
  char line[160];
  uint32_t length = 0, at = 0, status = 0, head = 1;
  memset(&answer, 0, sizeof answer);
  answer.next_s = 300;
  if (up.port->connect() || send_head(method, path, size, from, tag, hold)) return 0;
  if (size && up.port->send(up.text, size)) return 0;
  for (;;) {
    int came = up.port->receive(block, sizeof block, ANSWER_MS + hold * 1000);
    if (came < 0) return 0;
    if (came == 0) break;
    int used = 0;
    for (; head && used < came; used++) {
      char letter = (char)block[used];
      if (letter == '\r') continue;
      if (letter != '\n') {
        if (length < sizeof line - 1) line[length++] = letter;
        continue;
      }
      line[length] = 0;
      if (!status) {
        const char *space = strchr(line, ' ');
        if (!space || (status = number_of(space + 1, line + length)) < 100) return 0;
      } else if (length) {
        read_header(line, tag);
      } else {
        head = 0;
        at = status == 206 ? answer.range_from : 0;
        if (status == 204 || status == 304) return (int)status;
      }
      length = 0;
    }
    if (head || used >= came) continue;
    uint32_t piece = (uint32_t)(came - used);
    int wanted = status < 300 && !answer.other_tag && take;
    if (wanted && take(at, block + used, piece) < 0) return -1;
    at += piece;
    if (answer.has_size && at - (status == 206 ? answer.range_from : 0) >= answer.size) break;
  }
  uint32_t got = at - (status == 206 ? answer.range_from : 0);
  if (head || (answer.has_size && got < answer.size)) return 0;
  answer.size = got;
  return (int)status;
}

static int is_later(int status) { return status == 0 || status == 429 || status >= 500; }

/* Waits before a call is made again: as long as was asked, and longer each time, not with everybody else. */
static void hold_back(uint32_t *grown) {
  for (uint32_t left = answer.retry_after; left; left--) up.port->wait(1000);
  up.port->wait(*grown / 2 + jitter(*grown / 2));
  if (*grown < LONGEST_PAUSE_MS) *grown *= 2;
}

/* The same, until it is answered. */
static int insist(const char *method, const char *path, uint32_t size, uint32_t hold, sink take) {
  uint32_t grown = FIRST_PAUSE_MS;
  for (;;) {
    int status = call(method, path, size, 0, 0, hold, take);
    if (!is_later(status)) return status;
    hold_back(&grown);
  }
}

/* Words ------------------------------------------------------------------------------------------------------------- */

static void body_begin(struct out *out) {
  out->at = up.text;
  out->end = up.text + sizeof up.text - 1;
}

static uint32_t body_end(struct out *out) {
  *out->at = 0;
  return (uint32_t)(out->at - up.text);
}

static void put_slot(struct out *out, const char *name, int slot) {
  const struct up_slot *one = &up.record.slot[slot];
  put(out, "\"");
  put(out, name);
  put(out, "\":{");
  if (one->full) {
    put(out, "\"app\":{\"digest\":\"");
    put_hex(out, one->digest, 32);
    put(out, "\",");
    if (one->version[0]) put_field(out, "version", one->version);
    put_field(out, "slot", slot ? "b" : "a");
    put_count(out, "floor", one->floor);
    put_end(out, "}");
  }
  put(out, "},");
}

static uint32_t checkin_body(void) {
  struct out out;
  body_begin(&out);
  put(&out, "{");
  put_count(&out, "boots", up.record.boots);
  put_count(&out, "seq", ++up.seq);
  put_count(&out, "updater", 2);
  put_count(&out, "uptime_s", (now() - up.started_ms) / 1000 * up.scale);
  put_slot(&out, "running", up.slot);
  put_slot(&out, "standby", !up.slot);
  put(&out, up.on_trial ? "\"trial\":true," : "\"ready\":true,");
  if (up.record.restarted) put(&out, "\"after_restart\":true,");
  put(&out, "\"condition\":{\"charging\":true}}");
  return body_end(&out);
}

/* The oldest word that is kept: one a call fits the smallest buffer. */
static uint32_t report_body(void) {
  struct out out;
  const struct up_word *word = &up.record.unsent[0];
  body_begin(&out);
  put(&out, "{\"reports\":[{");
  put_count(&out, "boots", word->boots);
  put_count(&out, "seq", word->seq);
  put_count(&out, "attempt", word->attempt);
  put_count(&out, "try", word->number);
  put_field(&out, "state", STATES[word->state]);
  if (word->reason) put_field(&out, "reason", REASONS[word->reason]);
  if (word->state == INSTALLING) put_count(&out, "clearance", word->clearance);
  if (word->state == CONFIRMED) {
    put(&out, "\"digests\":{\"app\":\"");
    put_hex(&out, up.record.slot[word->slot].digest, 32);
    put(&out, "\"},");
  }
  put_end(&out, "}]}");
  return body_end(&out);
}

static void forget_word(int which) {
  struct up_word *word = &up.record.unsent[which];
  memmove(word, word + 1, (size_t)(--up.record.unsent_count - which) * sizeof *word);
}

/* Sends what is kept, one by one; 0 once nothing is left. What is refused would be refused again. */
static int send_unsent(void) {
  while (up.record.unsent_count) {
    if (is_later(call("POST", "reports", report_body(), 0, 0, 0, 0))) return -1;
    forget_word(0);
    keep(up.port, &up.record);
  }
  return 0;
}

/* Keeps a word until it is sent. Of too many, the oldest that decides nothing gives way. */
static void report(uint8_t state, uint8_t reason, uint32_t clearance) {
  struct up_record *record = &up.record;
  if (record->unsent_count == UP_MOST_UNSENT) {
    int which = 0;
    while (which < UP_MOST_UNSENT && record->unsent[which].state != DOWNLOADING && record->unsent[which].state != PROVING)
      which++;
    forget_word(which < UP_MOST_UNSENT ? which : 0);
  }
  struct up_word *word = &record->unsent[record->unsent_count++];
  memset(word, 0, sizeof *word); /* what is kept has no byte that is left to chance */
  word->boots = record->boots;
  word->seq = ++up.seq;
  word->attempt = record->attempt;
  word->number = record->number;
  word->clearance = clearance;
  word->state = state;
  word->reason = reason;
  word->slot = up.slot;
  keep(up.port, record);
  send_unsent();
}

static void told_stopped(uint8_t reason) {
  up.lamp("update stopped");
  report(FAILED, reason, 0);
}

/* Updating ---------------------------------------------------------------------------------------------------------- */

static struct json body(void) {
  const char *at = (const char *)up.buffer + ROOM_BEFORE;
  return (struct json){at, at + answer.size};
}

static void drop(int slot) {
  memset(&up.record.slot[slot], 0, sizeof up.record.slot[slot]);
  keep(up.port, &up.record);
  up.port->erase(slot);
}

/* The key list that is kept, in up.keys: its size, 0 if there is none that is whole. */
static uint32_t own_keys(void) {
  uint32_t size = 0;
  if (up.port->read(UP_KEYS, 0, &size, sizeof size) || size > UP_LARGEST_KEYS) return 0;
  if (up.port->read(UP_KEYS, 4, up.keys + ROOM_BEFORE, size)) return 0;
  return up_key_list(up.identity->root, up.keys + ROOM_BEFORE, size) ? size : 0;
}

/* The newest key list that the root signed, in up.keys. Returns its size, 0 if there is none at all. */
static uint32_t newest_keys(int patient) {
  uint32_t size = 0, grown = FIRST_PAUSE_MS;
  /* Power may have failed while it was written: then the same one is taken once more, but none before it. */
  uint32_t least = up.record.keys_number + (own_keys() ? 1 : 0);
  int status;
  while (is_later(status = call("GET", "keys", 0, 0, 0, 0, to_keys)) && patient) hold_back(&grown);
  if (status == 200) {
    uint32_t number = up_key_list(up.identity->root, up.keys + ROOM_BEFORE, answer.size);
    if (number && number >= least) {
      size = answer.size;
      if (up.port->erase(UP_KEYS) || up.port->write(UP_KEYS, 4, up.keys + ROOM_BEFORE, size) ||
          up.port->write(UP_KEYS, 0, &size, sizeof size))
        return 0;
      up.record.keys_number = number;
      keep(up.port, &up.record);
      return size;
    }
  }
  return own_keys();
}

static uint8_t reason_of(const char *words) {
  for (uint8_t reason = 1; reason < sizeof REASONS / sizeof *REASONS; reason++)
    if (!strcmp(words, REASONS[reason])) return reason;
  return REFUSED;
}

static struct {
  uint32_t have, size;
  int slot, broken;
} fetching;

static int to_slot(uint32_t at, const uint8_t *from, uint32_t size) {
  if (at != fetching.have || size > fetching.size - fetching.have) return -1;
  if (up.port->write(fetching.slot, at, from, size)) return fetching.broken = 1, -1;
  fetching.have += size;
  return 0;
}

/* The image, going on from wherever it broke off; 0 or the reason. */
static uint8_t fetch_image(const struct up_wanted *wanted, int slot) {
  char path[80], tag[68];
  struct out out = {path, path + sizeof path - 1}, quoted = {tag, tag + sizeof tag - 1};
  put(&out, "images/");
  put_hex(&out, wanted->digest, 32);
  *out.at = 0;
  put(&quoted, "\"");
  put_hex(&quoted, wanted->digest, 32);
  put(&quoted, "\"");
  *quoted.at = 0;
  memset(&fetching, 0, sizeof fetching);
  fetching.size = wanted->size;
  fetching.slot = slot;
  if (up.port->erase(slot)) return FLASH;
  report(DOWNLOADING, NO_REASON, 0);
  uint32_t grown = FIRST_PAUSE_MS;
  for (int tries = 0; fetching.have < fetching.size; tries++) {
    uint32_t before = fetching.have;
    int status = call("GET", path, 0, before, tag, 0, to_slot);
    if (fetching.broken) return FLASH;
    if (fetching.have > before) tries = 0, grown = FIRST_PAUSE_MS;
    if (fetching.have == fetching.size) break;
    if (status == 200 && fetching.have == 0) return BROKEN; /* whole, and yet not all of it */
    if (status < 0 && !answer.other_tag) { /* it begins elsewhere: from the start, then */
      if (up.port->erase(slot)) return FLASH;
      fetching.have = 0;
    } else if (status >= 400 && !is_later(status)) {
      return BROKEN;
    }
    if (tries >= FETCH_AGAIN) return BROKEN;
    hold_back(&grown);
  }
  uint8_t digest[32];
  if (hash_slot(up.port, slot, wanted->size, digest)) return FLASH;
  return memcmp(digest, wanted->digest, 32) ? MISMATCH : NO_REASON;
}

static void fetch(const uint8_t manifest[32]) {
  char path[80];
  struct out out = {path, path + sizeof path - 1};
  struct up_wanted wanted;
  int other = !up.slot;
  up.lamp("updating");
  put(&out, "manifests/");
  put_hex(&out, manifest, 32);
  *out.at = 0;
  uint32_t keys = newest_keys(1);
  int status = insist("GET", path, 0, 0, to_buffer);
  if (status != 200) {
    told_stopped(status < 0 ? NO_ROOM : BROKEN);
    return;
  }
  const char *why = up_judge(up.identity, up.buffer + ROOM_BEFORE, answer.size, manifest, up.keys + ROOM_BEFORE, keys, other,
                             up.record.floor, up.record.slot[up.slot].version, &wanted);
  if (why) {
    told_stopped(reason_of(why));
    return;
  }
  struct up_slot *slot = &up.record.slot[other];
  uint8_t proven = 0;
  if (slot->full && !memcmp(slot->digest, wanted.digest, 32) && slot->size == wanted.size) {
    proven = slot->proven; /* it stands there already */
  } else {
    drop(other);
    uint8_t reason = fetch_image(&wanted, other);
    if (reason) {
      drop(other);
      told_stopped(reason);
      return;
    }
  }
  memset(slot, 0, sizeof *slot);
  slot->size = wanted.size;
  slot->floor = wanted.floor;
  slot->full = slot->has_kid = 1;
  slot->proven = proven;
  memcpy(slot->digest, wanted.digest, 32);
  memcpy(slot->manifest, manifest, 32);
  memcpy(slot->kid, wanted.kid, 8);
  memcpy(slot->version, wanted.version, sizeof slot->version);
  report(STAGED, NO_REASON, 0);
}

static void confirm(void) { report(CONFIRMED, NO_REASON, 0); }

/* Puts the other slot on trial, if its signer is still good, and restarts. */
static void change_over(uint32_t clearance, uint32_t until_ms, uint32_t began_ms) {
  struct up_slot *slot = &up.record.slot[!up.slot];
  uint8_t key[32];
  struct signed1 list;
  uint32_t size = newest_keys(0);
  struct cbor cbor = {up.keys + ROOM_BEFORE, up.keys + ROOM_BEFORE + size, 0};
  if (slot->has_kid && (read_sign1(&cbor, &list) || !trusted_key(&list, slot->kid, key))) {
    drop(!up.slot);
    told_stopped(SIGNATURE);
    return;
  }
  if (now() - began_ms >= until_ms) return; /* it took too long: another clearance, then */
  up.lamp("updating");
  up.record.work_slot = !up.slot;
  up.record.switching = 1;
  up.record.went_back = NO_REASON;
  report(INSTALLING, NO_REASON, clearance);
  up.record.trial = !up.slot;
  up.record.trial_boots = 0;
  up.record.restarted = 1;
  keep(up.port, &up.record);
  up.port->restart();
}

static void obey(struct json order, uint32_t came_ms) {
  struct json value, to, leave;
  uint8_t manifest[32], digest[32];
  struct up_slot *other = &up.record.slot[!up.slot];
  if (json_find(order, "order", &value)) return;
  if (json_is(value, "abandon")) {
    if (other->full && !other->proven) drop(!up.slot);
    up.lamp("update stopped");
    return;
  }
  int back = json_is(value, "switch-back");
  if (!back && !json_is(value, "switch") && !json_is(value, "fetch")) return;
  int only_fetch = json_is(value, "fetch");
  if (json_find(order, "manifest", &value) || hex_of(value.at + 1, value.end, manifest, 32)) return;
  up.record.attempt = json_number(order, "attempt", 0);
  up.record.number = json_number(order, "try", 1);
  up.record.trial_s = json_number(order, "trial_s", 30);
  if (only_fetch) {
    fetch(manifest);
    return;
  }
  if (json_find(order, "clearance", &leave) || json_find(order, "to", &to) || json_find(to, "app", &value)) return;
  if (hex_of(value.at + 1, value.end, digest, 32)) return;
  uint32_t seconds = json_number(leave, "seconds", 0), clearance = json_number(leave, "number", 0);
  if (!memcmp(up.record.slot[up.slot].digest, digest, 32)) {
    confirm();
    return;
  }
  if (!seconds) return;
  int stands = other->full && !memcmp(other->digest, digest, 32);
  if (back) {
    if (stands && other->proven && other->floor >= up.record.floor) change_over(clearance, real_ms(seconds), came_ms);
    else told_stopped(REFUSED);
  } else if (stands && other->has_kid && !memcmp(other->manifest, manifest, 32)) {
    change_over(clearance, real_ms(seconds), came_ms);
  } else {
    fetch(manifest);
  }
}

/* Life -------------------------------------------------------------------------------------------------------------- */

/* One call; 0 if the service gave a token. The one that it had is kept until then. */
static int enrol(void) {
  struct out out;
  struct json token;
  body_begin(&out);
  put(&out, "{");
  put_field(&out, "serial", up.identity->serial);
  put_field(&out, "board", up.identity->board);
  put_field(&out, "line", up.identity->line);
  put_field(&out, "code", up.identity->code);
  put_field(&out, "nonce", up.identity->nonce);
  put_count(&out, "hw_rev", up.identity->hw_rev);
  put_end(&out, "}");
  if (insist("POST", "enrolments", body_end(&out), 0, to_buffer) != 201 || json_find(body(), "token", &token)) return -1;
  uint32_t size = (uint32_t)(token.end - token.at) - 2;
  if (!size || size >= sizeof up.record.token) return -1;
  memcpy(up.record.token, token.at + 1, size);
  up.record.token[size] = 0;
  return keep(up.port, &up.record);
}

/* Whoever stands before it sees that nobody lets it in, and when that is over. */
static void show_shut_out(int shut_out) {
  if (shut_out != up.shut_out) up.lamp(shut_out ? "not let in" : "running");
  up.shut_out = (uint8_t)shut_out;
}

/* On trial: tests itself, reaches the service (any answer will do), and vouches for what runs. */
static void prove(int (*self_test)(void)) {
  uint32_t began = now(), last = real_ms(up.record.trial_s), grown = FIRST_PAUSE_MS;
  report(PROVING, NO_REASON, 0);
  uint8_t why = self_test() ? NO_REASON : SELF_TEST;
  while (!why && call("POST", "checkins", checkin_body(), 0, 0, 0, 0) == 0) {
    if (now() - began >= last) why = NO_CONTACT;
    else hold_back(&grown);
  }
  up.record.trial = UP_NO_SLOT;
  if (why) {
    up.record.went_back = why;
    up.record.restarted = 1;
    keep(up.port, &up.record);
    up.port->restart();
  }
  struct up_slot *slot = &up.record.slot[up.slot];
  slot->proven = 1;
  up.record.active = up.slot;
  if (slot->floor > up.record.floor) up.record.floor = slot->floor;
  up.record.restarted = 0;
  keep(up.port, &up.record);
  up.on_trial = 0;
}

/* How a switch ended is told by what runs now: power may have failed anywhere in between. */
static void settle(void) {
  if (!up.record.switching) return;
  up.record.switching = 0;
  if (up.slot == up.record.work_slot) {
    up.lamp("running");
    confirm();
  } else {
    up.lamp("gone back");
    report(REVERTED, up.record.went_back ? up.record.went_back : POWER, 0);
  }
}

void up_run(const struct up_port *port, const struct up_identity *identity, int slot, int on_trial, int (*self_test)(void),
            void (*lamp)(const char *)) {
  memset(&up, 0, sizeof up);
  up.port = port;
  up.identity = identity;
  up.lamp = lamp;
  up.slot = (uint8_t)slot;
  up.on_trial = (uint8_t)on_trial;
  up.scale = 1;
  up.random = sum(identity->nonce, (uint32_t)strlen(identity->nonce));
  up.started_ms = now();
  if (recall(port, &up.record)) return;
  up.record.boots++;
  up.record.restarted = 1;
  keep(port, &up.record);
  lamp(on_trial ? "on trial" : "running");
  while (!up.record.token[0] && enrol()) {
    show_shut_out(1);
    port->wait(LONGEST_PAUSE_MS);
  }
  if (up.on_trial) prove(self_test);
  for (;;) {
    settle();
    if (send_unsent()) {
      uint32_t grown = FIRST_PAUSE_MS;
      hold_back(&grown);
      continue;
    }
    uint32_t hold = identity->hold_s;
    int status = insist("POST", "checkins", checkin_body(), hold, to_buffer);
    uint32_t came = now(), next = answer.next_s;
    up.record.restarted = 0;
    show_shut_out(status >= 400);
    if (status == 200) {
      struct json order = body(), value;
      next = json_number(order, "next_checkin_s", next);
      int nothing = json_find(order, "order", &value) || json_is(value, "stay") || json_is(value, "abandon");
      obey(order, came);
      if (!nothing) continue;
    }
    /* Of a token that was revoked an engineer may let it enrol again; until then it asks with that one. */
    if (status == 401 && !enrol()) continue;
    if (!(status == 204 && hold)) port->wait(real_ms(next));
  }
}
