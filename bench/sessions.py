"""Sessions on narrow radio: what is foreseen of a block of 61 kB against what comes of it in the air, at bursts of
1, 5, 10 and 30 fragments."""

from datetime import timedelta

from bench.figure import Figure
from mellow_herald.core.radio.completion import expected_share
from mellow_herald.core.radio.loss import Loss
from mellow_herald.core.radio.transmission import expected_length
from tests.harness.air import yard

BYTES, DEVICES, SEEDS, RATE = 61_000, 6, 20, 0.08
BURSTS = (1, 5, 10, 30)


def measure() -> list[Figure]:
    """Of each burst length, over twenty seeds: the share that completes, and how long it takes."""
    figures = []
    for burst in BURSTS:
        loss, done, ready, took = Loss(RATE, burst), 0, 0, timedelta()
        for seed in range(SEEDS):
            one = yard(DEVICES, BYTES, loss, seed, redundancy=15)
            one.prepare()
            began = one.ether.now
            one.transmit()
            done += sum(one.units[eui].blocks == [one.block] for eui in one.ready)
            ready += len(one.ready)
            took += one.ether.now - began
        share, foreseen = done / ready, expected_share(one.layout, [loss])
        length = took / SEEDS / expected_length(one.layout, DEVICES)
        name = f"61 kB, 8 % lost in bursts of {burst}"
        figures += [
            Figure(
                f"{name}: share that completes, off the forecast by (points)",
                100 * abs(share - foreseen),
                "<= 5",
                {"foreseen": round(100 * foreseen, 1), "came": round(100 * share, 1), "devices": ready},
            ),
            Figure(f"{name}: length / forecast", length, "0.9 to 1.1"),
        ]
    return figures


if __name__ == "__main__":
    for figure in measure():
        print(figure.line())
