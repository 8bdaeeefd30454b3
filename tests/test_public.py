"""What the package offers, and that its examples and pages run."""

import importlib
import inspect
import json
import re
import subprocess
import sys

import pytest

import leitwerk
from conftest import EXAMPLES, ROOT
from leitwerk.cli import _COMMANDS
from leitwerk.reports.finding_help import finding_groups

PAGES = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]


def test_a_new_public_name_shows_in_the_diff():
    assert sorted(leitwerk.__all__) == sorted(set(leitwerk.__all__))
    for name in leitwerk.__all__:
        assert getattr(leitwerk, name) is not None
        assert name in dir(leitwerk)
    with pytest.raises(AttributeError, match="upload_all"):
        _ = leitwerk.upload_all


@pytest.mark.process
def test_pages_that_follow_from_the_code_are_up_to_date(monkeypatch):
    """'make pages' writes them."""
    monkeypatch.syspath_prepend(str(ROOT / "tools"))
    pages = importlib.import_module("pages")
    for path, text in pages.all_pages().items():
        assert path.read_text("utf-8") == text, path
    assert pages.DATASHEETS.read_text("utf-8") == pages.datasheets_page()
    assert pages.COMPUTED.read_text("utf-8") == pages.computed_page()


def test_whatever_a_public_name_takes_or_returns_is_public(monkeypatch):
    monkeypatch.syspath_prepend(str(ROOT / "tools"))
    pages = importlib.import_module("pages")
    modules = [importlib.import_module(name) for name in pages.PACKAGES]
    public = {name: getattr(m, name) for m in modules for name in m.__all__}
    known = pages.public_classes()

    def needed(thing):
        if hasattr(thing, "model_fields"):
            return set()  # read from files, not made by callers
        try:
            signature = inspect.signature(thing)
        except (TypeError, ValueError):
            return set()
        parts = [p.annotation for p in signature.parameters.values() if p.name[0] != "_"]
        words = re.findall(r"[A-Z]\w+", " ".join(map(str, [*parts, signature.return_annotation])))
        return known.keys() & set(words)

    hidden = {}
    for name, thing in public.items():
        things = [thing]
        if inspect.isclass(thing):
            members = [v for k, v in vars(thing).items() if k[0] != "_"]
            things += [getattr(v, "fget", None) or getattr(v, "func", None) or v for v in members]
            things += [getattr(v, "__func__", None) for v in members]
        for missing in {n for t in things if callable(t) for n in needed(t)} - public.keys():
            hidden.setdefault(missing, name)
    assert hidden == {}


def test_importing_the_package_loads_next_to_nothing():
    code = "import sys, leitwerk; print(json.dumps(sorted(m for m in sys.modules if 'leitw' in m)))"
    done = subprocess.run(
        [sys.executable, "-c", f"import json; {code}"], capture_output=True, check=True
    )
    assert json.loads(done.stdout) == ["leitwerk"]


SAID = {
    "whole_thread.py": ["PASSED: 7 of 7 expectations met"],
    "power_and_sound.py": [
        "wiring passed", "dip.wav: dip, 290 ms", "interruption.wav: interruption", "inrush.wav: inrush",
        "transient.wav: transient", "LAeq 86.4 dB, calibrator passed", "verified by count and check sum",
    ],
}  # fmt: skip


@pytest.mark.process
@pytest.mark.parametrize("example", sorted((ROOT / "examples").glob("*.py")), ids=lambda p: p.name)
def test_an_example_runs(example, tmp_path):
    done = subprocess.run(
        [sys.executable, str(example)],
        cwd=tmp_path, capture_output=True, encoding="utf-8", timeout=60, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert all(word in done.stdout for word in SAID[example.name]), done.stdout


def test_pages_link_only_to_what_is_there():
    for page in PAGES:
        for target in re.findall(r"\]\(([^)#:\s]+)(?:#[^)]*)?\)", page.read_text("utf-8")):
            assert (page.parent / target).exists(), f"{page.name} links to {target}"


def test_the_library_example_of_the_readme_is_the_one_that_runs():
    example = (ROOT / "examples" / "whole_thread.py").read_text("utf-8")
    body = example[example.index("checked = leitwerk.read") : example.index("\nlogger.stop()")]
    assert body in (ROOT / "README.md").read_text("utf-8")


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_setups_on_the_pages_have_no_findings(page, sheet):
    for text in re.findall(r"```yaml\n(leitwerk: 1\n.*?)```", page.read_text("utf-8"), re.DOTALL):
        setup = leitwerk.parse_setup(text)
        assert (
            setup.device.model != sheet.model or leitwerk.check_setup(setup, sheet).findings == ()
        )


@pytest.mark.parametrize("file", sorted(EXAMPLES.glob("*.yaml")), ids=lambda p: p.name)
def test_shipped_setups_have_no_errors(file):
    assert leitwerk.check_file(file).ok


def test_commands_on_the_pages_exist():
    for page in PAGES:
        for name in re.findall(r"^\$? ?leitwerk ([a-z-]+)", page.read_text("utf-8"), re.MULTILINE):
            assert name in _COMMANDS, f"{page.name}: leitwerk {name}"


def test_every_finding_has_its_cause_and_its_remedy():
    names = r"\.error|\.warning|\.note|_finding|CellProblem|stop|_error"
    calls = re.compile(rf'(?:{names})\(\s*(?:row, column, )?"([a-z]+(?:-[a-z]+)*)"')
    sources = [path.read_text("utf-8") for path in (ROOT / "src").rglob("*.py")]
    rules = {rule for source in sources for rule in calls.findall(source)}
    known = [one for group in finding_groups().values() for one in group]
    assert len(rules) > 180
    assert rules - {one.rule for one in known} == set()
    assert len({one.rule for one in known}) == len(known)
    for one in known:
        assert one.severity in {"error", "warning", "note"}, one
        assert (one.cause[-1], one.remedy[-1]) == (".", "."), one


@pytest.mark.process
def test_the_page_on_python_runs_from_top_to_bottom(tmp_path):
    page = (ROOT / "docs" / "guide" / "from-python.md").read_text("utf-8")
    program = "\n".join(re.findall(r"```python\n(.*?)```", page, re.DOTALL))
    done = subprocess.run(
        [sys.executable, "-W", "error", "-c", program],
        cwd=tmp_path, capture_output=True, encoding="utf-8", timeout=60, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "['good' 'good' 'no number']" in done.stdout
