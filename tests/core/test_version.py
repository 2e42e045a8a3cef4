import itertools

import pytest
import semver
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.refusal import Refused
from mellow_herald.core.version import parse_version, version_key

numbers = st.integers(0, 300) | st.integers(0, 10**12)
identifiers = numbers.map(str) | st.from_regex(r"[a-zA-Z-][0-9a-zA-Z-]{0,5}", fullmatch=True)
versions = st.builds(
    lambda core, pre: ".".join(map(str, core)) + (f"-{'.'.join(pre)}" if pre else ""),
    st.tuples(numbers, numbers, numbers),
    st.lists(identifiers, max_size=3),
)


@given(versions, versions)
def test_the_keys_byte_order_is_semver_order(one: str, other: str) -> None:
    expected = semver.Version.parse(one).compare(other)
    mine = (version_key(one) > version_key(other)) - (version_key(one) < version_key(other))
    assert mine == expected


def test_the_example_of_the_standard() -> None:
    # semver.org, section 11.4
    rising = [
        "1.0.0-alpha",
        "1.0.0-alpha.1",
        "1.0.0-alpha.beta",
        "1.0.0-beta",
        "1.0.0-beta.2",
        "1.0.0-beta.11",
        "1.0.0-rc.1",
        "1.0.0",
    ]
    for one, other in itertools.pairwise(rising):
        assert version_key(one) < version_key(other)


def test_build_metadata_does_not_count() -> None:
    assert version_key("1.2.3+abc") == version_key("1.2.3+def") == version_key("1.2.3")


@pytest.mark.parametrize("text", ["", "1", "1.2", "v1.2.3", "1.2.3.4", "01.2.3", "1.2.3-", "two"])
def test_what_is_no_version_is_refused(text: str) -> None:
    with pytest.raises(Refused, match="is not a version"):
        parse_version(text)
