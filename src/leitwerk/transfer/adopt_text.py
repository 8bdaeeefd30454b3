"""How a setup file is written from values: texts and numbers of YAML."""

from __future__ import annotations

import json
import re

from leitwerk.parsing.quantities import format_number

# Quantities, ranges and units: nothing in them means something to YAML.
_QUANTITY = re.compile(r"(?:[±-]?\d[\d.]*(?: [°%Ω\w/·]+)?)|°[CF]|Ω")
_PLAIN = re.compile(r"[^\W\d][\w .,/+()-]*[\w.)]|[^\W\d]")
# What editors that follow YAML 1.1 take for something else than a text.
_WORDS = {"yes", "no", "on", "off", "true", "false", "null", "y", "n"}


def yaml_text(value: object) -> str:
    """A text as YAML: plain where that is safe, in double quotes elsewhere (JSON's are YAML's)."""
    text = str(value)
    if _PLAIN.fullmatch(text) and text.casefold() not in _WORDS:
        return text
    if _QUANTITY.fullmatch(text):
        return text
    return json.dumps(text, ensure_ascii=False)


def exact_text(value: float) -> str:
    """A number with all the digits that a device keeps."""
    return format_number(value, 12)
