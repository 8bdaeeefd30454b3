"""Write the JSON Schemas of setups and datasheets from the models: ``make schema``."""

import json
from pathlib import Path

from leitwerk.datasheet.fields import datasheet_schema
from leitwerk.setup.model import setup_schema

FOLDER = Path(__file__).parent.parent / "src" / "leitwerk" / "schemas"
for name, schema in (("setup", setup_schema()), ("datasheet", datasheet_schema())):
    text = json.dumps(schema, indent=2, ensure_ascii=False)
    (FOLDER / f"{name}.schema.json").write_text(text + "\n", encoding="utf-8")
