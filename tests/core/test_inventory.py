import pytest
from hypothesis import given
from hypothesis import strategies as st

from mellow_herald.core.inventory import Entry, Format, Mistake, Reader, header, write_csv
from mellow_herald.core.refusal import Refused

HEAD = "serial,board,line,hw_rev,note,label.site\n"


texts = st.text(st.characters(exclude_characters="\0\r", exclude_categories=["Cs"]), max_size=20)
texts |= st.text("'=+-@x", max_size=4)


def read(text: str, written: Format = Format.CSV, cut: int = 10_000) -> list[Entry | Mistake]:
    reader = Reader(written)
    found = [one for at in range(0, len(text), cut) for one in reader.feed(text[at : at + cut])]
    return [*found, *reader.end()]


@given(
    notes=st.lists(
        st.text(st.characters(exclude_characters="\0\r", exclude_categories=["Cs"]), max_size=20), max_size=5
    ),
    cut=st.integers(1, 30),
)
def test_whatever_is_written_is_read_back_in_any_pieces(notes: list[str], cut: int) -> None:
    rows = [(f"TA-{n}", "comb-s1", "hive-scale", 1, note, note) for n, note in enumerate(notes)]
    entries = read(HEAD + write_csv(rows), cut=cut)
    assert all(isinstance(one, Entry) for one in entries), entries
    assert [one.note or "" for one in entries if isinstance(one, Entry)] == notes
    assert [one.labels.get("site", "") for one in entries if isinstance(one, Entry)] == notes


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("TA-1,comb-s1,hive-scale", "3 values for 6 columns"),
        (",comb-s1,hive-scale,1,,", "serial is missing"),
        ("-x,comb-s1,hive-scale,1,,", "serial '-x' is not a name"),
        ("TA-1,comb-s1,hive-scale,two,,", "hw_rev 'two' is not a number"),
        ("TA-1,comb-s1,hive-scale,70000,,", "not a number of 0 to 65535"),
        (f"TA-1,comb-s1,hive-scale,1,,{'x' * 201}", "at most 200 characters"),
        ('TA-1,comb-s1,hive-scale,1,"open,', "a quote does not end"),
    ],
)
def test_a_line_that_cannot_be_taken_is_refused_alone(line: str, said: str) -> None:
    found = read(f"{HEAD}TA-0,comb-s1,hive-scale,1,,\n{line}\n")
    assert isinstance(found[0], Entry)
    assert isinstance(found[1], Mistake) and said in found[1].detail


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("[1]", "it must begin with {"),
        ("{", "not a JSON object"),
        ('{"serial":"T","board":"b","line":"l","hw_rev":true}', "hw_rev True"),
        ('{"serial":"T","board":"b","line":"l","hw_rev":1,"colour":1}', "colour is not known"),
        ('{"serial":"T","board":"b","line":"l","hw_rev":1,"labels":{"a b":"c"}}', "cannot be the key"),
        ('{"serial":"T","board":"b","line":"l","hw_rev":1,"labels":{"a":7}}', "must be a text"),
        ('{"serial":"T","board":"b","line":"l","hw_rev":1,"labels":[]}', "labels must be an object"),
        ("[" * 5000, "not a JSON object"),
    ],
)
def test_a_line_of_json_that_cannot_be_taken_is_refused_alone(line: str, said: str) -> None:
    (found,) = read(line, Format.JSONL)
    assert isinstance(found, Mistake) and said in found.detail


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "the file is empty"),
        ("seriel,board,line,hw_rev\n", "Did you mean serial?"),
        ("serial,board,line,hw_rev,site\n", "A label is written label.site"),
        ("serial,board\n", "lacks line, hw_rev"),
        ("serial,serial,board,line,hw_rev\n", "twice"),
        ("x" * 70_000, "more than 65536 characters"),
        (HEAD + '"' + "x\n" * 40_000, "does not end"),
    ],
)
def test_a_file_of_which_nothing_can_be_made_is_refused_whole(text: str, said: str) -> None:
    with pytest.raises(Refused, match=said.replace("?", r"\?")):
        read(text)


def test_a_header_has_a_column_for_each_label() -> None:
    assert header(["site"])[:4] == ["serial", "board", "line", "hw_rev"] and header(["site"])[-1] == "label.site"
