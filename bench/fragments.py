"""Fragments on narrow radio: how long a device's decoder takes for a block of 61 kB, and how much memory beside it."""

import random
import time

from bench.figure import Figure
from mellow_herald.core.radio.coding import Block, Decoder, MemoryFlash

FRAGMENTS, BYTES, LOST = 1525, 40, 0.1
MOST_S, MOST_BYTES = 1.0, 16 * 1024


def measure() -> list[Figure]:
    """Of what is received, fragment by fragment, to the whole block."""
    rng = random.Random(7)
    block = Block.cut(rng.randbytes(FRAGMENTS * BYTES), BYTES)
    received = [n for n in range(1, FRAGMENTS * 2) if rng.random() >= LOST]
    sent = [(number, block.payload(number)) for number in received[: FRAGMENTS + 20]]
    flash = MemoryFlash(FRAGMENTS, BYTES)
    decoder, most, began = Decoder(FRAGMENTS, flash), 0, time.perf_counter()
    taken = 0
    for number, payload in sent:
        taken += 1
        done = decoder.take(number, payload)
        most = max(most, decoder.memory)
        if done:
            break
    took = time.perf_counter() - began
    if not decoder.complete or bytes(flash.block) != b"".join(block.fragments):
        raise RuntimeError("the block was not put together")
    spare = taken - FRAGMENTS
    return [
        Figure(
            f"decoding {FRAGMENTS:,} fragments of {BYTES} B with 10 % lost (s)",
            took,
            f"<= {MOST_S:g}",
            {"recovered": decoder.recovered, "received beyond the least": spare},
        ),
        Figure("the device's memory for it beside the block ÷ 16 KiB", most / MOST_BYTES, "<= 1", {"bytes": most}),
    ]


if __name__ == "__main__":
    for figure in measure():
        print(figure.line())
