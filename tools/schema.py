"""Write the JSON Schema of setups from the models: ``make schema``."""

import json
from pathlib import Path

from leitwerk.setup.model import setup_schema

PATH = Path(__file__).parent.parent / "src" / "leitwerk" / "schemas" / "setup.schema.json"
PATH.write_text(json.dumps(setup_schema(), indent=2, ensure_ascii=False) + "\n", encoding="utf-8")
