"""The yard of the second act: a gateway with two parts and settings, a relay behind it that streams into two probes,
sensors behind that; and what hive scales have besides firmware."""

import json
import random
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID

from mellow_herald.core.nameplate import Nameplate, encode_nameplate
from mellow_herald.core.settings import canonical

GATEWAY_BOARD, GATEWAY_LINE = "skep-g1", "yard-gateway"
RELAY_BOARD, RELAY_LINE, RELAY = "skep-y1", "yard-relay", "TA-Y1-0001"
PROBES = ("probe-a", "probe-b")
GATEWAY_NEW, RELAY_OLD, RELAY_NEW, SENSOR_NEW = "1.3.0", "2.1.0", "2.2.0", "0.9.2"
PROBE_BLOCKS, BREAKS_AT = 40, 31
BLOCK = 4096
SETTINGS_VERSION, CERTIFICATE_VERSION = "2026.12.1", "2026.12.2"
CHANGED_BY_HAND = 2
WRONG_CLOCK = "400d"
SETTINGS, CERTIFICATE = "settings/main", "certificate/uplink"
DAY = {"sample_every_s": 600, "tare_g": 1180, "night": {"from": "22:00", "sample_every_s": 1800}}
NIGHT = {"sample_every_s": 600, "tare_g": 1180, "night": {"from": "21:00", "sample_every_s": 3600}}
BY_HAND = {"sample_every_s": 300, "tare_g": 1215, "night": {"from": "22:00", "sample_every_s": 1800}}
UPLINK_OLD, UPLINK_NEW = {"uplinks": 1, "report_every_s": 900}, {"uplinks": 2, "report_every_s": 600}
SCHEMA = {
    "$schema": "https://json-schema.org/draft/2020-12/schema",
    "type": "object",
    "required": ["sample_every_s"],
    "properties": {
        "sample_every_s": {"type": "integer", "minimum": 10, "maximum": 86400},
        "tare_g": {"type": "integer", "minimum": 0},
        "night": {
            "type": "object",
            "properties": {
                "from": {"type": "string", "pattern": "^[0-2][0-9]:[0-5][0-9]$"},
                "sample_every_s": {"type": "integer", "minimum": 10, "maximum": 86400},
            },
            "additionalProperties": False,
        },
    },
    "additionalProperties": False,
}


def board_places(trusted: str) -> str:
    """What the board file of a hive scale says of places."""
    return f"""
[[components]]
kind = "settings"
place = "main"
size = 8192
schema = {_inline(SCHEMA)}

[[components]]
kind = "certificate"
place = "uplink"
size = 16384
trusted = '''
{trusted}'''

[[components]]
kind = "file"
place = "sounds"
size = 65536
action = "import"
"""


GATEWAY_PLACES = """
[[slots]]
name = "radio-a"
component = "radio"
size = 131072

[[slots]]
name = "radio-b"
component = "radio"
size = 131072

[[components]]
kind = "settings"
place = "main"
size = 8192
"""
RELAY_BOARD_FILE = f"""\
# The yard relay: it streams into two probes that have no room for a second image.
name = "{RELAY_BOARD}"
vendor_domain = "thistledown.example"
lines = ["{RELAY_LINE}"]
hw_revs = [1]
check_in = "30s"

[[slots]]
name = "a"
size = 131072

[[slots]]
name = "b"
size = 131072
""" + "".join(
    f"""
[[slots]]
name = "{probe}-new"
component = "{probe}"
size = 196608

[[slots]]
name = "{probe}-former"
component = "{probe}"
size = 196608

[[components]]
name = "{probe}"
storage = "streamed"
"""
    for probe in PROBES
)
PLAN = """\
# One yard: staged side by side, switched from the leaves to the gateway.
name = "yard: {release}"
release = "{release}"
target = "{target}"

[order]
switch = "all-staged"
keep_reachable = true

[device]
battery_at_least = 10

[numbers]
retries = 0
trial_for = "60s"

[brake]
firmware_limit = {limit}
delivery_limit = 0.5

[[rings]]
name = "yard"
soak = "0s"
enough = 0.5
"""


def _inline(value: Any) -> str:
    """A JSON document as a TOML value in one line."""
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{json.dumps(key)} = {_inline(one)}" for key, one in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(_inline(one) for one in value) + "]"
    return json.dumps(value)


def make_part(component: str, version: str, seed: int, *, board: str, line: str, size: int) -> bytes:
    """A made-up image of any component."""
    rng = random.Random(f"{seed}/{line}/{component}/{version}")
    plate = Nameplate(line, board, component, version, 4, 2, f"ta-{rng.randrange(16**8):08x}", 1_795_300_000, 1, 3)
    block = encode_nameplate(plate)
    return rng.randbytes(1024) + block + rng.randbytes(size - 1024 - len(block))


def write_yard(folder: Path, seed: int) -> None:
    """Writes firmware, settings, certificates and plans of the second act."""
    firmware = folder / "firmware"
    firmware.mkdir(parents=True, exist_ok=True)
    gateway = {"board": GATEWAY_BOARD, "line": GATEWAY_LINE, "size": 26 * 1024}
    relay = {"board": RELAY_BOARD, "line": RELAY_LINE}
    for component, version in (("app", GATEWAY_NEW), ("radio", "0.4.0"), ("radio", "0.5.0")):
        image = make_part(component, version, seed, **gateway)  # type: ignore[arg-type]
        (firmware / f"{GATEWAY_LINE}-{component}-{version}.bin").write_bytes(image)
    for version in (RELAY_OLD, RELAY_NEW):
        image = make_part("app", version, seed, size=48 * 1024, **relay)
        (firmware / f"{RELAY_LINE}-app-{version}.bin").write_bytes(image)
        for probe in PROBES:
            image = make_part(probe, version, seed, size=PROBE_BLOCKS * BLOCK, **relay)
            (firmware / f"{RELAY_LINE}-{probe}-{version}.bin").write_bytes(image)
    sensor = make_part("app", SENSOR_NEW, seed, board="bract-r1", line="forage-sensor", size=24 * 1024)
    (firmware / f"forage-sensor-{SENSOR_NEW}.bin").write_bytes(sensor)
    places = folder / "places"
    places.mkdir(exist_ok=True)
    documents: dict[str, dict[str, Any]] = {
        "day": DAY,
        "night": NIGHT,
        "by-hand": BY_HAND,
        "uplink-old": UPLINK_OLD,
        "uplink-new": UPLINK_NEW,
    }
    for name, document in documents.items():
        (places / f"{name}.json").write_bytes(canonical(document))
    (places / "schema.json").write_text(json.dumps(SCHEMA))
    (places / "sounds-1.bin").write_bytes(random.Random(seed).randbytes(9000))
    if not (places / "root.pem").exists():
        _write_certificates(places)
    (folder / f"{RELAY_BOARD}.toml").write_text(RELAY_BOARD_FILE)
    for version in (RELAY_OLD, RELAY_NEW):
        images = [f'[[images]]\nfile = "firmware/{RELAY_LINE}-app-{version}.bin"\n']
        images += [
            f'[[images]]\nfile = "firmware/{RELAY_LINE}-{probe}-{version}.bin"\nafter = ["app"]\n' for probe in PROBES
        ]
        text = "# The relay first, then both probes.\n" + "\n".join(images)
        (folder / f"{RELAY_LINE}-{version}.toml").write_text(text)
    (folder / f"{GATEWAY_LINE}-{GATEWAY_NEW}.toml").write_text(
        f"""\
# The gateway, its radio, and how often it reports.
[[images]]
file = "firmware/{GATEWAY_LINE}-app-{GATEWAY_NEW}.bin"

[[images]]
file = "firmware/{GATEWAY_LINE}-radio-0.5.0.bin"

[[contents]]
kind = "settings"
place = "main"
file = "places/uplink-new.json"
base = "places/uplink-old.json"
"""
    )


def write_plan(path: Path, release: str, target: str, limit: float = 0.5) -> None:
    """Writes a plan of one ring for one yard."""
    path.write_text(PLAN.format(release=release, target=target, limit=limit))


def _write_certificates(places: Path) -> None:
    """A made-up authority, the port's own certificate, and an old and a new one for the hive scales' key. Keys and
    dates are this start's own: nothing in the story depends on them."""
    now = datetime.now(UTC)
    root_key, port_key, scale_key = (ec.generate_private_key(ec.SECP256R1()) for _ in range(3))
    root = _certificate("Thistledown yard authority", root_key, None, None, now - timedelta(days=900), 3650, ca=True)
    issued = {
        "port": _certificate("127.0.0.1", port_key, root, root_key, now - timedelta(days=800), 3000),
        "uplink-old": _certificate("hive scales", scale_key, root, root_key, now - timedelta(days=800), 900),
        "uplink-new": _certificate("hive scales", scale_key, root, root_key, now - timedelta(days=2), 900),
    }
    (places / "root.pem").write_bytes(root.public_bytes(Encoding.PEM))
    for name, certificate in issued.items():
        (places / f"{name}.pem").write_bytes(certificate.public_bytes(Encoding.PEM))
    for name, key in (("port", port_key), ("scales", scale_key)):
        pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        file = places / f"{name}.key"
        file.touch(mode=0o600)
        file.write_bytes(pem)


def _certificate(
    name: str,
    key: ec.EllipticCurvePrivateKey,
    issuer: x509.Certificate | None,
    by: ec.EllipticCurvePrivateKey | None,
    begins: datetime,
    days: int,
    *,
    ca: bool = False,
) -> x509.Certificate:
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    return (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer.subject if issuer else subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(begins + timedelta(days=days))
        .add_extension(x509.BasicConstraints(ca=ca, path_length=None), critical=True)
        .sign(by or key, hashes.SHA256())
    )
