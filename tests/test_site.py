"""The documentation is built as a site, without a warning, and no link in it is dead."""

import importlib
import inspect
import re
import subprocess
import sys
from html.parser import HTMLParser
from urllib.parse import unquote, urlsplit

import pytest

from conftest import ROOT
from leitwerk.reports.finding_help import finding_groups


class Page(HTMLParser):
    """The links of a page, and what can be linked to on it."""

    def __init__(self, text):
        super().__init__()
        self.links, self.anchors = [], set()
        self.feed(text)

    def handle_starttag(self, _tag, attrs):
        named = dict(attrs)
        self.anchors |= {named[key] for key in ("id", "name") if named.get(key)}
        self.links += [named[key] for key in ("href", "src") if named.get(key)]


@pytest.fixture(scope="module")
def site(tmp_path_factory):
    folder = tmp_path_factory.mktemp("site")
    words = ["-q", "-W", "--keep-going", "-b", "html", "-d", str(folder / "trees")]
    done = subprocess.run(
        [sys.executable, "-m", "sphinx", *words, str(ROOT / "docs"), str(folder / "html")],
        capture_output=True, encoding="utf-8", check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return folder / "html"


@pytest.mark.process
def test_no_link_of_the_site_is_dead_and_none_leads_out_of_it_to_be_shown(site):
    pages = {path: Page(path.read_text("utf-8")) for path in site.rglob("*.html")}
    dead, outside = [], set()
    for path, page in pages.items():
        for link in page.links:
            parts = urlsplit(link)
            if parts.scheme or parts.netloc:
                outside.add(link)
                continue
            target = (path.parent / unquote(parts.path)).resolve() if parts.path else path
            target = target / "index.html" if target.is_dir() else target
            if not target.exists() or (
                parts.fragment
                and target in pages
                and unquote(parts.fragment) not in pages[target].anchors
            ):
                dead.append(f"{path.relative_to(site)}: {link}")
    assert dead == []
    loaded = "".join(path.read_text("utf-8") for path in pages)
    assert re.findall(r'<(?:script|link)[^>]+(?:src|href)="https?:[^"]*"', loaded) == []
    assert len(pages) > 50
    index = (site / "searchindex.js").read_text("utf-8")
    assert "certif" in index  # the stem of certificate: what is searched for is found


@pytest.mark.process
def test_each_public_name_has_its_docstring_on_the_page_of_its_package(site):
    for package in ("leitwerk", "leitwerk.calibration", "leitwerk.signals"):
        module = importlib.import_module(package)
        text = (site / "reference" / "api" / f"{package}.html").read_text("utf-8")
        anchors = Page(text).anchors
        things = [
            name for name in module.__all__
            if inspect.isclass(thing := getattr(module, name)) or inspect.isfunction(thing)
        ]  # fmt: skip
        assert len(things) > 10
        assert [name for name in things if f"{package}.{name}" not in anchors] == []


@pytest.mark.process
def test_each_finding_has_an_address(site):
    page = Page((site / "reference" / "findings.html").read_text("utf-8"))
    rules = {one.rule for group in finding_groups().values() for one in group}
    assert rules <= page.anchors
