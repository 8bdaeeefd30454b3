"""Write the JSON Schemas of all kinds of files from the models: ``make schema``."""

import json
from pathlib import Path

from leitwerk.commissioning.proof_record import proof_schema
from leitwerk.datasheet.entries import datasheet_schema
from leitwerk.protocols.station import station_schema
from leitwerk.setup.file_schemas import (
    columns_schema,
    contacts_schema,
    plan_schema,
    sensor_schema,
    template_schema,
)
from leitwerk.setup.limits import limits_schema
from leitwerk.setup.model import setup_schema

FOLDER = Path(__file__).parent.parent / "src" / "leitwerk" / "schemas"
SCHEMAS = {
    "setup": setup_schema(),
    "datasheet": datasheet_schema(),
    "station": station_schema(),
    "limits": limits_schema(),
    "proof": proof_schema(),
    "template": template_schema(),
    "sensor": sensor_schema(),
    "columns": columns_schema(),
    "contacts": contacts_schema(),
    "test-plan": plan_schema(),
}
if __name__ == "__main__":
    for name, schema in SCHEMAS.items():
        text = json.dumps(schema, indent=2, ensure_ascii=False)
        (FOLDER / f"{name}.schema.json").write_text(text + "\n", encoding="utf-8")
