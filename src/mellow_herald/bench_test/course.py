"""The course: the stations in the order in which a device goes through them, each about a sentence of the protocol."""

from mellow_herald.bench_test.station import Station
from mellow_herald.bench_test.stations import (
    enrols_again,
    goes_back,
    goes_on,
    lets_calls_be_held,
    minds_revocation,
    minds_the_clearance,
    minds_the_tag,
    refuses_image,
    refuses_manifest,
    repeats,
    stays_away,
    stays_away_long,
    stops_before_clearance,
    stops_fetching,
    survives_power_cuts,
    tells_the_truth,
    updates,
    waits_for_late_answers,
)

COURSE = (
    Station(
        "enrol",
        "The answer to the first call gets lost",
        "The nonce is made once and kept: the same nonce gives the same token until the token is first used.",
        enrols_again,
    ),
    Station(
        "update",
        "A plain update",
        "Fetch the manifest, verify it, fetch the image, verify it, write it to standby; report; switch only within a "
        "clearance, on trial, and confirm what runs.",
        updates,
    ),
    Station(
        "repeated",
        "An order that was carried out is told again",
        "Runs every digest of `to`: report `confirmed` once more, with `digests`; do not restart.",
        repeats,
    ),
    Station("cut", "A transfer is cut", "Go on with a range from where it broke off.", goes_on),
    Station(
        "etag",
        "Another ETag in the middle of a transfer",
        "The strong ETag of an image is its digest in quotes; another one is another image, and nothing of it belongs "
        "to what you have.",
        minds_the_tag,
    ),
    Station(
        "manifest",
        "The manifest is altered",
        "The manifest: the digest in its name, one signature by a key that is active or retired.",
        refuses_manifest,
    ),
    Station(
        "image",
        "The image is altered",
        "The image: size and SHA-256 of what stands in the flash, read back.",
        refuses_image,
    ),
    Station(
        "revoked",
        "The key is revoked between staging and switching",
        "Before it switches: that the key which signed what it is to boot was not revoked meanwhile.",
        minds_revocation,
    ),
    Station(
        "expired",
        "The clearance has run out",
        "Finds that `clearance.seconds` are over, or 0: nothing; check in with `ready`, and get a new one.",
        minds_the_clearance,
    ),
    Station(
        "late",
        "The answer with leave to switch comes late",
        "Durations run on the device's own clock from when the answer came.",
        waits_for_late_answers,
    ),
    Station(
        "halt-before",
        "Halted before the clearance",
        "Has it staged: erase it, unless it is what ran before. Fetches: stop; erase what is there of it.",
        stops_before_clearance,
    ),
    Station(
        "halt-fetching",
        "Halted in the middle of a transfer",
        "403 `not-your-attempt`: your attempt is over; stop fetching, keep what runs, check in, and do what the answer "
        "says.",
        stops_fetching,
    ),
    Station(
        "halt-after",
        "Halted after the clearance",
        "Has reported `installing`, or is on trial: too late to do anything; what runs decides.",
        tells_the_truth,
    ),
    Station(
        "power",
        "Power is cut while it fetches",
        "`boots` never goes back; keep reports over a restart; at the next start tell what runs.",
        survives_power_cuts,
    ),
    Station(
        "self-test",
        "New firmware fails its self-test",
        "New firmware runs on trial: a crash, hang or failed test before it confirms goes back at once.",
        goes_back,
    ),
    Station(
        "held",
        "Check-ins are held open",
        "With `Prefer: wait=N` an order reaches a device that waits within a second.",
        lets_calls_be_held,
    ),
    Station(
        "overload",
        "429 and 503",
        "Come back after `Retry-After`; keep what you have to say.",
        stays_away,
    ),
    Station(
        "overload-long",
        "A Retry-After of a year",
        "Come back after `Retry-After`, however long that is.",
        stays_away_long,
    ),
)
