"""The scenario's keys, boards, releases and devices, made ready by the client library: for tests and benchmarks, which
tell nobody what they do."""

import tomllib
from collections.abc import Iterable

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from mellow_herald.client import Herald
from mellow_herald.core.key_status import KeyStatus
from mellow_herald.core.keys import SigningKey, private_to_pem, public_to_pem, raw_public, sign_key_list
from mellow_herald.demo import scenario
from mellow_herald.demo.scenario import Place
from mellow_herald.wire.board import BoardIn
from mellow_herald.wire.fleet import CodeIn


def provision(herald: Herald, place: Place, *, devices: int, others: int, seed: int, versions: Iterable[str]) -> None:
    """Publishes these ``versions``, from the images that lie in ``place``, and writes a scenario of so many hive scales
    and ``others`` that enrol by the codes made here."""
    root, key = Ed25519PrivateKey.generate(), Ed25519PrivateKey.generate()
    for path, made in ((place.root_key, root), (place.signing_key, key)):
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(private_to_pem(made))
        path.with_suffix(".pub.pem").write_bytes(public_to_pem(raw_public(made)))
    signed = sign_key_list(root, 1, [SigningKey(raw_public(key), KeyStatus.ACTIVE)])
    place.key_list.write_bytes(signed)
    herald.keys.publish(raw_public(root), signed)
    codes = {}
    for path in (place.board, *place.other_boards):
        board = BoardIn.model_validate(tomllib.loads(path.read_text()))
        herald.boards.add(board)
        asked = CodeIn(board=board.name, line=board.lines[0], uses=devices + others)
        codes[board.name] = herald.codes.make(asked).code or ""
    for version in versions:
        herald.releases.publish(place.firmware(version), key=key)
    scenario.write_scenario(place, codes, devices, seed=seed, calm=True)
