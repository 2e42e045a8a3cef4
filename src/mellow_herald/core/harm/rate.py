"""The highest failure rate that what was seen does not speak against.

An e-process for each rate q, of rates below it (a prior above it would only tell how low the rate can be): with f bad
of n devices

    E_q(f, n) = Σ w_j r_j^f ((1 − r_j q)/(1 − q))^(n−f)

By Ville's inequality the true rate q has E_q < 1/δ at all times with a chance of at least 1 − δ (Ramdas, Grünwald,
Vovk, Shafer, "Game-theoretic statistics and safe anytime-valid inference", Statistical Science 2023), so it lies below
the highest q with E_q < 1/δ, however often one looks.
"""

from functools import lru_cache
from math import exp, log, log1p

# Rates below q that it is held against, in parts of it, and how much each counts.
PARTS = (0.0, 0.1, 0.25, 0.5, 0.75)
COUNTING = (0.4, 0.15, 0.15, 0.15, 0.15)
STEPS = 50


def log_e(bad: int, seen: int, rate: float) -> float:
    """ln E_q for ``bad`` of ``seen`` devices and q = ``rate`` (0 < q < 1)."""
    terms = [
        log(weight) + (bad * log(part) if part else 0.0) + (seen - bad) * (log1p(-part * rate) - log1p(-rate))
        for part, weight in zip(PARTS, COUNTING, strict=True)
        if part or not bad
    ]
    most = max(terms)
    return most + log(sum(exp(term - most) for term in terms))


@lru_cache(maxsize=65_536)
def upper_rate(bad: int, seen: int, delta: float) -> float:
    """The highest failure rate (0–1) that ``bad`` of ``seen`` devices do not speak against at ``delta``; 1 before the
    first, and where all are bad."""
    if bad >= seen:
        return 1.0
    least, most, threshold = 0.0, 1.0, -log(delta)
    # E rises with q: from below 1 at no harm at all to infinity where every device is bad.
    for _ in range(STEPS):
        middle = (least + most) / 2
        if log_e(bad, seen, middle) < threshold:
            least = middle
        else:
            most = middle
    return most
