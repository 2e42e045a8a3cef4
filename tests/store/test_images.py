import hashlib
import threading
import time
from pathlib import Path

import pytest

from mellow_herald.core.refusal import Refused
from mellow_herald.store.images import FolderImageStore

DATA = b"firmware" * 5000
DIGEST = hashlib.sha256(DATA).hexdigest()


@pytest.fixture
def store(tmp_path: Path) -> FolderImageStore:
    return FolderImageStore(tmp_path)


def files(store: FolderImageStore) -> list[Path]:
    return [path for path in store.folder.rglob("*") if path.is_file()]


def test_an_image_appears_only_when_it_is_whole(store: FolderImageStore) -> None:
    writing = store.begin(DIGEST, len(DATA))
    writing.write(DATA[:100])
    assert not store.sound(DIGEST)
    writing.write(DATA[100:])
    assert not store.path(DIGEST).exists()
    writing.keep()
    assert store.sound(DIGEST)
    assert store.path(DIGEST).read_bytes() == DATA
    writing.drop()
    assert store.sound(DIGEST), "dropping after keeping is harmless"
    assert len(files(store)) == 1


@pytest.mark.parametrize("data", [DATA[:-1], DATA[:-1] + b"x", b""])
def test_what_is_not_what_was_announced_leaves_nothing(store: FolderImageStore, data: bytes) -> None:
    writing = store.begin(DIGEST, len(DATA))
    writing.write(data)
    with pytest.raises(Refused, match="digest"):
        writing.keep()
    assert files(store) == []


def test_too_many_bytes_are_refused_at_once(store: FolderImageStore) -> None:
    writing = store.begin(DIGEST, 10)
    with pytest.raises(Refused, match="larger than the 10 bytes"):
        writing.write(DATA)
    writing.drop()
    assert files(store) == []


def test_two_uploads_of_the_same_at_once_are_both_right(store: FolderImageStore) -> None:
    def upload() -> None:
        writing = store.begin(DIGEST, len(DATA))
        for at in range(0, len(DATA), 1000):
            writing.write(DATA[at : at + 1000])
        writing.keep()

    threads = [threading.Thread(target=upload) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert store.sound(DIGEST)
    assert len(files(store)) == 1


def test_a_damaged_file_is_noticed_and_a_repaired_one_too(store: FolderImageStore) -> None:
    writing = store.begin(DIGEST, len(DATA))
    writing.write(DATA)
    writing.keep()
    assert store.sound(DIGEST)
    store.path(DIGEST).write_bytes(DATA[:-1] + b"x")
    assert not store.sound(DIGEST)
    store.path(DIGEST).write_bytes(DATA)
    assert store.sound(DIGEST)
    store.remove(DIGEST)
    assert not store.sound(DIGEST)


def test_what_a_crash_left_is_swept(store: FolderImageStore) -> None:
    store.begin(DIGEST, len(DATA)).write(b"half")
    assert store.sweep(before=time.time() - 3600) == 0, "it may still be on its way"
    assert store.sweep(before=time.time() + 1) == 1
    assert files(store) == []


@pytest.mark.parametrize("digest", ["", "../../etc/passwd", "A" * 64, "a" * 63])
def test_a_name_that_is_no_digest_reaches_no_file(store: FolderImageStore, digest: str) -> None:
    with pytest.raises(Refused, match="not a SHA-256"):
        store.path(digest)
