import itertools
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.radio.coding import (
    MOST_FRAGMENTS,
    Block,
    Decoder,
    MemoryFlash,
    NotEnoughMemoryError,
    bits,
    parity_line,
    prbs23,
)


def send(block: Block, received: list[int], size: int) -> tuple[Decoder, MemoryFlash]:
    """A device that receives these fragments of a block, in this order."""
    flash = MemoryFlash(len(block.fragments), size)
    decoder = Decoder(len(block.fragments), flash)
    for number in received:
        decoder.take(number, block.payload(number))
    return decoder, flash


def solvable(lines: list[int], count: int) -> bool:
    """Whether the lines of ``count`` columns tell every column: some selection of them adds up to each."""
    sums = {0}
    for line in lines:
        sums |= {one ^ line for one in sums}
    return all(1 << column in sums for column in range(count))


def test_the_generator_by_hand() -> None:
    # 1: bits 0 and 5 are 1 and 0, so bit 22 is set; 0b100001: both are set, so it is not.
    assert prbs23(1) == 1 << 22
    assert prbs23(0b100001) == 0b10000
    assert prbs23(0b100000) == 0b10000 | 1 << 22


def test_a_line_by_hand() -> None:
    # M = 5, N = 1, from x = 1002 = 0b1111101010: two draws. 1002 ends in ...01010 with bit 5 set: 501 + 2**22 =
    # 4194805, modulo 5: 0. 4194805 is odd, its bit 5 is set: 2097402, modulo 5: 2.
    assert parity_line(1, 5) == 0b00101
    # Set, not toggled, so a line of four may hold fewer than two bits; a power of two draws from one more.
    assert [bin(parity_line(n, 4)).count("1") for n in range(1, 40)].count(1) > 0
    assert all(0 < parity_line(n, 4) < 16 for n in range(1, 100))


def test_two_in_five_are_in_a_line() -> None:
    count = 300
    density = sum(parity_line(n, count).bit_count() for n in range(1, 200)) / (199 * count)
    assert 0.37 < density < 0.41


@pytest.mark.parametrize("count", [2, 3, 4, 5])
def test_a_device_knows_the_block_as_soon_as_it_can_be_known(count: int) -> None:
    """Every set of fragments that may be received, in order: solved exactly where brute force tells it can be."""
    rng = random.Random(count)
    block = Block.cut(rng.randbytes(3 * count - 1), 3)
    numbers = range(1, 2 * count + 3)
    for among in itertools.chain.from_iterable(itertools.combinations(numbers, size) for size in range(len(numbers))):
        lines = [1 << n - 1 if n <= count else parity_line(n - count, count) for n in among]
        decoder, flash = send(block, [*among], 3)
        assert decoder.complete == solvable(lines, count), among
        if decoder.complete:
            assert bytes(flash.block) == b"".join(block.fragments)


@given(st.integers(2, 120), st.integers(1, 24), st.integers(0, 2**32), st.floats(0, 0.6))
def test_what_is_put_together_is_what_was_sent(count: int, size: int, seed: int, lost: float) -> None:
    rng = random.Random(seed)
    data = rng.randbytes(count * size - rng.randrange(size))
    block = Block.cut(data, size)
    received = [n for n in range(1, 4 * count + 20) if rng.random() >= lost]
    decoder, flash = send(block, received, size)
    assert len(block.fragments) == count
    assert decoder.complete and decoder.missing == 0
    assert bytes(flash.block)[: len(data)] == data and not any(flash.block[len(data) :])


def test_fragments_that_come_twice_late_or_out_of_order_do_no_harm() -> None:
    rng = random.Random(3)
    block = Block.cut(rng.randbytes(400), 8)
    order = [n for n in range(1, 51) if n % 7] + [51, 51, 7, 7, 52, 14, 3] + list(range(53, 70)) + [1, 60, 0]
    decoder, flash = send(block, order, 8)
    assert decoder.complete and bytes(flash.block) == b"".join(block.fragments)
    assert decoder.recovered == 7


def test_a_device_says_when_its_memory_does_not_reach_and_goes_on_with_plain_fragments() -> None:
    block = Block.cut(random.Random(1).randbytes(4000), 10)
    flash = MemoryFlash(400, 10)
    decoder = Decoder(400, flash, most_missing=64)
    for number in range(66, 401):
        decoder.take(number, block.payload(number))
    with pytest.raises(NotEnoughMemoryError, match="65 fragments are missing, 64"):
        decoder.take(401, block.payload(401))
    assert decoder.missing == 65 and decoder.memory < 200
    decoder.take(1, block.payload(1))
    for number in range(401, 480):
        decoder.take(number, block.payload(number))
    assert decoder.complete and bytes(flash.block) == b"".join(block.fragments)


def test_the_memory_is_bounded() -> None:
    count, rng = 1525, random.Random(2)
    block = Block.cut(rng.randbytes(count * 40), 40)
    lost = set(rng.sample(range(1, count + 1), 152))
    decoder, most = Decoder(count, MemoryFlash(count, 40)), 0
    for number in range(1, count + 170):
        if number not in lost:
            decoder.take(number, block.payload(number))
            most = max(most, decoder.memory)
    assert decoder.complete
    assert most <= 16 * 1024


def test_a_block_that_cannot_be_numbered_is_refused() -> None:
    Block.cut(bytes(MOST_FRAGMENTS), 1)
    with pytest.raises(ValueError, match="16384 fragments of 1; at most 16383"):
        Block.cut(bytes(MOST_FRAGMENTS + 1), 1)


@given(st.sets(st.integers(0, 300)))
def test_bits_are_told_from_the_lowest(places: set[int]) -> None:
    assert [*bits(sum(1 << place for place in places))] == sorted(places)
