"""What is wrong with a line, from the bytes that were sent and that came."""

import pytest
from test_exchange_setups import CABIN

from conftest import checked
from leitwerk.exchange.symptoms import symptoms

SEVEN_EVEN = bytes(b | 0x80 * (b.bit_count() % 2) for b in b"KILN;21.5;55.0\r\n")  # 7E1 read as 8N1


@pytest.mark.parametrize(
    ("sent", "came", "words"),
    [
        (b"ASK\r\n", b"KILN;21.5;55.0\r\n", []),
        (b"SET;5\r\n", b"OK\r\nKILN;21.5;---\r\n", []),
        (b"ASK\r\n", b"", ["silence"]),
        (b"ASK\r\n", b"ASK\r\n", ["echo"]),
        (b"ASK\r\n", b"> ASK\r\nKILN;21.5;55.0\r\n", ["echo"]),
        (b"", SEVEN_EVEN, ["parity"]),
        (b"", bytes(range(128, 168)), ["garbage"]),
        (b"", b"KILN;21.5;55.0\r", ["end"]),
        (b"", b"KILN;21.5;55.0\n" * 3, ["end"]),
        (b"", b"KILN;21.5;55.0\r\nKILN;21.5\n;55.0\r\n", ["mixed ends"]),
        (b"", b"KILN,21.5,55.0\r\n", ["separator"]),
        (b"", b"OVEN;21.5;55.0\r\n", ["not understood"]),
        (b"ASK\r\n", b"ERR 1\r\n", ["refused"]),
        (b"", b"KILN;21.5", ["no end"]),
    ],
)
def test_a_symptom_is_named(sent, came, words):
    exchange = checked(CABIN).exchanges[0].exchange
    assert [symptom.word for symptom in symptoms(exchange, sent, came)] == words
