"""The JSON Schemas (2020-12) of the files beside a setup: what editors complete and check."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from pydantic import Field

from leitwerk.parsing.models import Model
from leitwerk.setup.column_names import ColumnFile
from leitwerk.setup.contacts import Contact
from leitwerk.setup.own_sensors import SensorFile
from leitwerk.setup.template import TemplateFile
from leitwerk.setup.test_plan import PlanEntry, StimulusEntry, TestEntry

_DRAFT = "https://json-schema.org/draft/2020-12/schema"
_FIRST = {"const": 1, "description": "Version of this file format"}


class _ContactFile(Model):
    """A list of contacts that several setups share."""

    contacts: dict[str, Contact] = Field(description="Contacts by name")


class _PlanFile(PlanEntry):
    """A plan of tests for lots of units."""

    stimuli: dict[str, StimulusEntry] = Field(default_factory=dict, description="Stimuli by name")
    tests: dict[str, TestEntry] = Field(description="Tests by name, in their order")


def template_schema() -> Mapping[str, Any]:
    """The schema of templates; the setup in one has placeholders, and is not checked further."""
    schema = _titled(TemplateFile, "template")
    schema["properties"]["setup"] = {
        "type": "object", "description": "The setup, with <parameter> where one stands"
    }  # fmt: skip
    schema["required"] = [*schema["required"], "setup"]
    parameter = schema["$defs"]["TemplateParameter"]["properties"]
    parameter["choices"] = {
        "description": "What can be chosen: names, or names with the entries that each brings",
        "anyOf": [{"type": "array", "items": {"type": "string"}},
                  {"type": "object", "additionalProperties": {"type": ["object", "null"]}}],
    }  # fmt: skip
    parameter["each"]["additionalProperties"]["items"] = {"type": ["string", "number"]}
    return schema


def sensor_schema() -> Mapping[str, Any]:
    """The schema of sensors of one's own."""
    return _titled(SensorFile, "sensor")


def columns_schema() -> Mapping[str, Any]:
    """The schema of the names of columns in tables."""
    return _titled(ColumnFile, "names of columns")


def contacts_schema() -> Mapping[str, Any]:
    """The schema of contact lists."""
    schema = _titled(_ContactFile, "contact list")
    return _with_version(schema, "contact list")


def plan_schema() -> Mapping[str, Any]:
    """The schema of plans of tests."""
    schema = _titled(_PlanFile, "plan of tests")
    # A bare number is one for an editor, and a text for us.
    for key in ("reads",):
        schema["$defs"]["TestEntry"]["properties"][key] = _number_or_text(
            schema["$defs"]["TestEntry"]["properties"][key]
        )
    return _with_version(schema, "test plan")


def _titled(model: type[Model], what: str) -> dict[str, Any]:
    return {"$schema": _DRAFT, **model.model_json_schema(), "title": f"Leitwerk {what}"}


def _with_version(schema: dict[str, Any], key: str) -> dict[str, Any]:
    schema["properties"] = {key: _FIRST, **schema["properties"]}
    schema["required"] = [key, *schema["required"]]
    return schema


def _number_or_text(entry: dict[str, Any]) -> dict[str, Any]:
    return {**entry, "anyOf": [{"type": "string"}, {"type": "number"}, {"type": "null"}]}
