"""Plans of tests in files, with the setup that they name beside them."""

from __future__ import annotations

from pathlib import Path

from leitwerk.check.test_plan import CheckedPlan, check_test_plan
from leitwerk.project.files import read_bytes
from leitwerk.project.setups import read_setup
from leitwerk.setup.test_plan import parse_test_plan


def read_test_plan(path: str | Path) -> CheckedPlan:
    """The plan in a file, held against its setup.

    Raises
    ------
    FileProblem
        A file cannot be read.
    SetupError
        The plan or its setup has mistakes; ``findings`` says them all.

    """
    plan = parse_test_plan(read_bytes(path), file=str(path))
    return check_test_plan(plan, read_setup(Path(path).parent / plan.entry.setup))
