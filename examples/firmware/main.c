/* A firmware that does next to nothing, built by the machine's own compiler: it shows how a nameplate gets in. */
#include <stdint.h>

extern void reset(void);

/* What a chip reads first: here only the address where code begins. */
__attribute__((section(".vectors"), used)) void (*const vectors[])(void) = {reset};

static const uint16_t gain_table[256] = {1, 2, 4, 8};
static volatile uint32_t grams;
static uint32_t tare = 1250;

static uint32_t weigh(uint32_t counts) {
    uint32_t sum = 0;
    for (uint32_t n = 0; n < 256; n++) sum += counts * gain_table[n];
    return sum - tare;
}

void reset(void) {
    for (;;) grams = weigh(grams + 1);
}
