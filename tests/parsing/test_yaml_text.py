import pytest
from hypothesis import given
from hypothesis import strategies as st

from leitwerk.findings import Findings
from leitwerk.parsing.yaml_text import MAX_BYTES, parse_yaml


def read(data):
    findings = Findings("f")
    return parse_yaml(data, findings), findings.sorted()


def test_scalars_stay_as_they_were_typed_and_keep_their_place():
    root, findings = read("a: no\nb: {c: 12:30, d: '017'}\ne: [1e3, x]\n")
    assert not findings
    assert root == {"a": "no", "b": {"c": "12:30", "d": "017"}, "e": ["1e3", "x"]}
    assert root.locate(("b", "d")) == (2, 18)
    assert root.locate(("b", "d"), at_key=True) == (2, 15)
    assert root.locate(("e", "1")) == (3, 10)
    assert root.locate(("b", "missing")) == (2, 4)


@pytest.mark.parametrize(
    ("data", "rule", "place"),
    [
        ("", "empty", (1, 1)),
        ("  \n\n", "empty", (1, 1)),
        ("- 1\n- 2", "not-a-mapping", (1, 1)),
        ("# only a remark", "empty", (1, 1)),
        ("a: [1, 2", "not-yaml", (2, 1)),
        ("a: \ud800", "not-yaml", (1, 1)),
        ("a: 1\n\tb: 2", "not-yaml", (2, 1)),
        (b"\x89PNG\r\n\x1a\n\x00", "not-text", (1, 1)),
        (b"a: 1\nb: \xff", "not-text", (2, 1)),
        ("a: 1\nb: \0", "not-text", (2, 1)),
        ("a: 1\nb: 2\na: 3", "duplicate-key", (3, 1)),
        ("a: &x 1\nb: *x", "alias", (1, 4)),
        ("a: !!python/name:os.system x", "tag", (1, 4)),
        ("a: 1\n---\nb: 2", "second-document", (2, 1)),
        ("a: " + "[" * 40 + "]" * 40, "too-deep", (1, 20)),
        ("? [a]\n: 1", "key", (1, 3)),
        (b"a: 1\n" * (MAX_BYTES // 5 + 1), "too-large", (1, 1)),
    ],
)
def test_what_a_setup_never_needs_is_a_finding(data, rule, place):
    _, findings = read(data)
    assert [(f.rule, (f.line, f.column)) for f in findings] == [(rule, place)]
    assert findings[0].is_error
    assert findings[0].advice()


@given(st.one_of(st.text(), st.binary()))
def test_no_input_ends_in_a_traceback(data):
    root, findings = read(data)
    assert (root is not None) or findings
