"""The gate for text, and addresses as RFC 3986 has them."""

from __future__ import annotations

import base64
import json
import re
from urllib.parse import urlsplit

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.addresses import (
    HTTPS_PATTERN,
    LONGEST_ADDRESS,
    REDIRECT_PATTERN,
    WEB_PATTERN,
    UnfitAddress,
    read_address,
)
from jamb.core.clients.clients import REDIRECT_LONGEST, ClientKind, fault_of
from jamb.core.credentials.assertions import NotProven, read_assertion
from jamb.core.directory.people_list import check_person
from jamb.core.jwt import key_id, read_signed
from jamb.core.text import (
    LINE_PATTERN,
    NAME_PATTERN,
    UnfitText,
    escaped,
    in_words,
    line_fault,
    lines_fault,
    name_fault,
    read_json,
    strings_in,
    visible,
    visible_lines,
)

GOOD = ["", "Tug dispatcher", "Ærø – Ørsted", "港湾", "کشتی‌ها", "👩‍👩‍👧 family", "a b"]
BAD = [
    "\0",
    "a\ud800b",
    "\udfff",
    "\x1b[31m",
    "\x7f",
    "\x9b1m",
    "a\u202eb",
    "\u2066x\u2069",
    "\u200e",
    "\u2028",
    "\ufeff",
]


@pytest.mark.parametrize("text", GOOD)
def test_what_people_write_is_text(text: str) -> None:
    assert line_fault(text) == lines_fault(text) == ""
    assert visible(text) == text


@pytest.mark.parametrize("text", BAD)
def test_what_is_not_seen_is_no_text_and_can_be_made_visible(text: str) -> None:
    assert line_fault(text)
    assert lines_fault(text)
    for shown in (visible(text), visible_lines(text)):
        assert line_fault(shown) == ""
        shown.encode()


def test_several_lines_are_text_where_they_may_be() -> None:
    text = "first\r\nsecond\tcolumn\n"
    assert (bool(line_fault(text)), lines_fault(text)) == (True, "")


@given(st.text())
def test_whatever_passes_the_gate_can_be_kept_and_shown(text: str) -> None:
    shown = visible(text)
    assert line_fault(shown) == ""
    assert "\0" not in shown
    if not line_fault(text):
        assert text.encode().decode() == text == shown


values = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**53), 2**53) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
)


@given(values)
def test_json_is_read_as_it_was_written_or_refused_for_its_text(value: object) -> None:
    written = json.dumps(value)
    fits = all("\0" not in one and not any("\ud800" <= ch <= "\udfff" for ch in one) for one in strings_in(value))
    try:
        assert read_json(written) == read_json(written.encode()) == value
        assert fits
    except UnfitText:
        assert not fits


@given(values)
def test_json_for_a_terminal_is_the_same_value_with_nothing_hidden(value: object) -> None:
    shown = escaped(json.dumps(value, ensure_ascii=False))
    assert json.loads(shown) == value
    assert lines_fault(shown) == ""


@pytest.mark.parametrize(
    "sent", [b"", b"{", b"NaN", b'"\xff"', b'"\\ud800"', b'"\\u0000"', b"[" * 3000, b'{"a":1}x', b"\xfe\xff"]
)
def test_what_is_no_json_is_refused(sent: bytes) -> None:
    with pytest.raises(UnfitText):
        read_json(sent)


def segment(value: object) -> str:
    return base64.urlsafe_b64encode(json.dumps(value).encode()).decode().rstrip("=")


@pytest.mark.parametrize(
    "token",
    [
        "",
        "a.b",
        "a.b.c.d",
        "!.!.!",
        f"{segment([])}.{segment({})}.eA",
        f"{segment({})}.{segment('x')}.eA",
        f"{segment({'kid': chr(0)})}.{segment({})}.eA",
        f"{segment({})}.{segment({'iss': chr(0xD800)})}.eA",
        "é.é.é",
    ],
)
def test_what_is_no_token_is_refused(token: str) -> None:
    with pytest.raises(UnfitText):
        read_signed(token)


@pytest.mark.parametrize("token", ["", "!.x.y", "é.x.y", f"{chr(0xD800)}.x.y", f"{segment([])}.x.y"])
def test_of_what_is_no_token_no_key_is_named(token: str) -> None:
    with pytest.raises(UnfitText):
        key_id(token)


@pytest.mark.parametrize("kind", ["at+jwt", "probe+jwt", "dpop+jwt", 7, [], {}])
def test_an_assertion_says_that_it_is_one_or_nothing(kind: object) -> None:
    def assertion(header: dict[str, object]) -> str:
        return f"{segment({'alg': 'ES256', **header})}.{segment({'iss': 'x'})}.{'A' * 86}"

    with pytest.raises(NotProven, match="typ"):
        read_assertion(assertion({"typ": kind}))
    for good in ({}, {"typ": "JWT"}, {"typ": "jwt"}, {"typ": "client-authentication+jwt"}):
        assert read_assertion(assertion(good)).claim("iss") == "x"


ADDRESSES = {
    "https://berths.port.example": ("berths.port.example", 443),
    "http://127.0.0.1:8441/berths?x=1": ("127.0.0.1", 8441),
    "https://[2001:db8::1]:9/x": ("2001:db8::1", 9),
    "https://Port.Example/": ("port.example", 443),
    "https://x.example/a%20b/..c": ("x.example", 443),
}


@pytest.mark.parametrize("address", ADDRESSES)
def test_an_address_is_read_as_the_standard_has_it(address: str) -> None:
    found = read_address(address)
    assert (found.host, found.port) == ADDRESSES[address]
    assert found.netloc == urlsplit(address).netloc


@pytest.mark.parametrize(
    "address",
    [
        "",
        "x",
        "ftp://x.example/",
        "//x.example/",
        "https://",
        "https:///x",
        "https://a@x.example/",
        "https://x:0/",
        "https://x:65536/",
        "https://x:/",
        "https://x:1a/",
        "https://a..b/",
        "https://-a.b/",
        "https://a_b/",
        f"https://{'a' * 64}.b/",
        f"https://{'a.' * 130}b/",
        "https://[::1",
        "https://[::g]/",
        "https://[1.2.3.4]/",
        "https://x/#f",
        "https://x/a/../b",
        "https://x/%2e%2E/b",
        "https://x/.",
        "https://x/%",
        "https://x/%4",
        "https://x/ ",
        "https://x/é",
        "https://x\\y/",
        "https://x/\\y",
        "HTTPS://x/",
        "https://x/\0",
        "javascript:alert(1)",
        "https://x/" + "a" * 500,
    ],
)
def test_what_two_programs_could_read_differently_is_no_address(address: str) -> None:
    with pytest.raises(UnfitAddress):
        read_address(address)


@given(st.text(max_size=60) | st.from_regex(r"https?://[!-~]{0,40}", fullmatch=True))
def test_whatever_is_read_as_an_address_is_read_alike_by_another_parser(text: str) -> None:
    try:
        found = read_address(text)
    except UnfitAddress:
        return
    other = urlsplit(text)
    assert (found.host, found.path) == (other.hostname, other.path)
    assert (other.username, other.password, other.fragment) == (None, None, "")
    assert found.port == (other.port or {"https": 443, "http": 80}[found.scheme])


REDIRECTS = {
    "https://app.example/back": (True, True),
    "http://localhost:7000/back": (True, True),
    "http://[::1]:7000/back": (True, True),
    "http://app.example/back": (False, False),
    "org.example.app:/back": (False, True),
    "org.example.app://back": (False, True),
    "org.example.app:back": (False, False),
    "app:/back": (False, False),
    "javascript:/back": (False, False),
    "https://App.example/back": (False, False),
    "https://app.example/*": (False, False),
    "https://app.example/back#x": (False, False),
    "https://own@evil.example/": (False, False),
    "https://app.example/a/../back": (False, False),
}


@pytest.mark.parametrize("address", REDIRECTS)
def test_redirect_uris_by_kind_of_client(address: str) -> None:
    found = tuple(not fault_of(address, kind) for kind in (ClientKind.WEB, ClientKind.NATIVE))
    assert found == REDIRECTS[address]
    assert fault_of(address, ClientKind.SERVICE)
    assert fault_of(address, ClientKind.DEVICE)


@pytest.mark.parametrize("login", ["a.b+c@port.example", "o'neil@x.example", "x@localhost"])
def test_a_login_is_an_address_that_mail_can_be_written_to(login: str) -> None:
    check_person(login, "Somebody")


@given(st.sampled_from([HTTPS_PATTERN, WEB_PATTERN]).flatmap(lambda one: st.from_regex(one.removesuffix("$") + r"\Z")))
def test_what_the_description_calls_an_address_is_one(address: str) -> None:
    if len(address) <= LONGEST_ADDRESS:
        assert read_address(address).host


@given(st.from_regex(REDIRECT_PATTERN.removesuffix("$") + r"\Z"))
def test_what_the_description_calls_a_redirect_uri_is_one_of_some_kind_of_client(address: str) -> None:
    if len(address) <= REDIRECT_LONGEST:
        assert fault_of(address, ClientKind.NATIVE) == ""


@given(st.from_regex(LINE_PATTERN.removesuffix("$") + r"\Z"), st.from_regex(NAME_PATTERN.removesuffix("$") + r"\Z"))
def test_what_the_description_calls_text_passes_the_gate(line: str, name: str) -> None:
    tags = re.compile("[\U000e0000-\U000e007f]")
    assert not line_fault(tags.sub("", line))
    assert not name_fault(tags.sub("", name))
    assert name.strip()


def test_things_are_named_as_a_sentence_does() -> None:
    assert [in_words(list("abc")[:count], "or") for count in range(4)] == ["", "a", "a or b", "a, b or c"]
