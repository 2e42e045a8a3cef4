/* The cryptography, from libsodium. */
#include <sodium.h>
#include <string.h>

#include "updater.h"

_Static_assert(sizeof(crypto_hash_sha256_state) <= sizeof(struct up_hash), "a hash has room for libsodium's state");

void up_sha256_begin(struct up_hash *hash) { crypto_hash_sha256_init((crypto_hash_sha256_state *)hash); }

void up_sha256_add(struct up_hash *hash, const void *from, uint32_t size) {
  crypto_hash_sha256_update((crypto_hash_sha256_state *)hash, from, size);
}

void up_sha256_end(struct up_hash *hash, uint8_t digest[32]) {
  crypto_hash_sha256_final((crypto_hash_sha256_state *)hash, digest);
}

int up_ed25519_good(const uint8_t key[32], const uint8_t signature[64], const uint8_t *message, uint32_t size) {
  return !crypto_sign_ed25519_verify_detached(signature, message, size, key);
}
