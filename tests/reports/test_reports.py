"""Reports: verdicts against pandas, seals that show a change, hostile labels and templates, pages."""

import io
import re
import shutil
import subprocess
from html.parser import HTMLParser

import numpy as np
import openpyxl
import pandas as pd
import pytest
from matplotlib.figure import Figure
from PIL import Image

import leitwerk as lw
from conftest import checked, kiln_text
from leitwerk.analysis.series import Column, Series
from leitwerk.commissioning.proof_record import ProofRecord, StepResult
from leitwerk.evaluation.judged import judge_groups
from leitwerk.evaluation.summary import summarise
from leitwerk.parsing.units import parse_unit
from leitwerk.project.kept_json import KeptIdentity
from leitwerk.recordings.about import About
from leitwerk.reports.recording_report import ReportOptions, make_report
from leitwerk.reports.report_template import report_kinds
from leitwerk.reports.time_figure import Curve, plot_channel
from leitwerk.reports.words import known_texts
from leitwerk.signals.quality import Quality
from leitwerk.signals.states import StateNames
from leitwerk.transfer.batch import BatchEntry, BatchRecord

BEGIN = 1_772_438_400.0  # 2026-03-02T08:00Z
PAPERS = """
zone: Europe/Vienna
papers:
  header: {company: Tannried Mill, load: "Spruce <b>|40|</b> boards"}
  judged:
    heat: {alarms: [air_top.too_hot], at_most: 1}
    dryness: {alarms: [humidity.too_dry], at_most: 20 min}
"""


def text_with_papers(papers=PAPERS):
    return kiln_text().replace("Air above the stack", "Air *above* <script>") + papers


def run(seed=1, rows=3000):
    rng = np.random.default_rng(seed)
    times = BEGIN + 10.0 * np.arange(rows)
    times[rows // 2 :] += 600
    walk = np.cumsum(rng.normal(0, 0.6, (rows, 2)), axis=0) + np.array([76.0, 27.0])
    codes = np.zeros(walk.shape, np.uint8)
    codes[100:110, 1] = Quality.OPEN_SENSOR
    return Series((Column("air_top", "°C"), Column("humidity", "%")), times, walk, codes)


def by_pandas(series, beyond, clear, delay_s):
    """Trips and time in alarm, row by row; and the time beyond the trip point: slow, and plain to see."""
    frame = pd.DataFrame({"t": series.times_s, "x": series.good()[:, 0 if beyond == "hot" else 1]})
    step = frame.t.diff().shift(-1).fillna(10.0).where(lambda s: s <= 15, 10.0)
    out = frame.x > 78 if beyond == "hot" else frame.x < 25
    safe = frame.x <= clear if beyond == "hot" else frame.x >= clear
    since, tripped, begin, trips, in_alarm = None, False, 0.0, 0, 0.0
    for t, is_out, is_safe in zip(frame.t, out, safe, strict=True):
        since = (t if since is None else since) if is_out else None
        if not tripped and since is not None and t - since >= delay_s:
            tripped, begin, trips = True, t, trips + 1
        elif tripped and is_safe:
            tripped, in_alarm = False, in_alarm + t - begin
    return trips, in_alarm + (frame.t.iloc[-1] - begin if tripped else 0.0), step[out].sum()


@pytest.mark.parametrize("seed", range(6))
def test_verdicts_are_those_of_an_independent_computation(seed):
    setup = checked(text_with_papers())
    series = run(seed)
    heat, dry = judge_groups(summarise(series, setup.channels), setup.setup.papers.judged)
    trips, in_alarm, _ = by_pandas(series, "hot", 75, 30.0)
    assert (heat.times, heat.outside_s) == (trips, pytest.approx(in_alarm))
    # The worst value is that of all rows, also where nothing tripped.
    highest = np.nanmax(series.good()[:, 0])
    assert (heat.alarms[0].worst is None) == (highest <= 78.0)
    assert heat.alarms[0].worst is None or heat.alarms[0].worst.value == highest
    trips, _, beyond = by_pandas(series, "dry", 28, 120.0)
    assert (dry.times, dry.outside_s) == (trips, pytest.approx(beyond))
    # What is too much has failed; what is within, with gaps, is not known.
    assert heat.outcome == ("not passed" if heat.times > 1 else "unknown")
    assert dry.outcome == ("not passed" if dry.outside_s > 1200 else "unknown")


def test_without_gaps_what_is_within_has_passed():
    setup = checked(text_with_papers())
    calm = Series(run().columns, BEGIN + 10.0 * np.arange(100), np.tile([60.0, 50.0], (100, 1)))
    assert [v.outcome for v in judge_groups(summarise(calm, setup.channels), setup.setup.papers.judged)] == [
        "passed", "passed",
    ]  # fmt: skip
    lacks = Series(calm.columns[:1], calm.times_s, calm.values[:, :1])
    outcomes = judge_groups(summarise(lacks, setup.channels), setup.setup.papers.judged)
    assert [v.outcome for v in outcomes] == ["passed", "unknown"]  # its channel was not recorded


@pytest.mark.parametrize(
    ("papers", "says"),
    [
        ("judged: {a: {alarms: [air_top.hot]}}", "there is no alarm 'air_top.hot' to judge"),
        ("judged: {a: {alarms: []}}", "judges no alarm"),
        (
            "judged: {a: {alarms: [air_top.too_hot]}, b: {alarms: [air_top.too_hot]}}",
            "judged twice",
        ),
        ("judged: {a: {alarms: [air_top.too_hot], at_most: some}}", "a time outside in all"),
    ],
)
def test_what_cannot_be_judged(papers, says):
    with pytest.raises(lw.SetupError) as caught:
        checked(f"{kiln_text()}\npapers: {{{papers}}}\n").require()
    assert says in str(caught.value)


class Page(HTMLParser):
    def __init__(self, text):
        super().__init__()
        self.tags, self.words = [], []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.append((tag, dict(attrs)))

    def handle_data(self, data):
        self.words.append(data)


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "run.csv").write_text(run().csv(), "utf-8")
    (tmp_path / "kiln.yaml").write_text(text_with_papers(), "utf-8")
    return tmp_path


@pytest.mark.process
def test_a_page_holds_all_and_no_markup_of_labels(folder, leitwerk):
    done = leitwerk(
        "report", "run.csv", "--setup", "kiln.yaml", "--to", "r.html", "--note", "![x](http://a/b)"
    )
    assert (done.exit_code, "not passed" in done.stdout) == (1, True), done.output
    page = Page((folder / "r.html").read_text("utf-8"))
    text = " ".join(page.words)
    for part in ("Spruce <b>|40|</b> boards", "Air *above* <script>", "NOT PASSED", "air_top.too_hot",
                 "Signature", "Europe/Vienna", "![x](http://a/b)"):  # fmt: skip
        assert part in text, part
    assert not {"script", "a", "b"} & {tag for tag, _ in page.tags}
    assert [a["src"][:22] for tag, a in page.tags if tag == "img"] == ["data:image/png;base64,"]
    chromium = shutil.which("chromium")
    if chromium:  # a browser that knows nothing of us shows it
        command = [
            chromium,
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--dump-dom",
            f"file://{folder}/r.html",
        ]
        shown = subprocess.run(
            command, capture_output=True, text=True, timeout=60, check=False
        ).stdout
        assert "Air *above* &lt;script&gt;" in shown


@pytest.mark.process
@pytest.mark.parametrize("ending", [".html", ".pdf"])
def test_a_changed_report_shows(folder, leitwerk, ending):
    path = folder / f"r{ending}"
    leitwerk("report", "run.csv", "--setup", "kiln.yaml", "--to", str(path))
    asked = ("verify-report", str(path), "--setup", "kiln.yaml", "--source", "run.csv")
    fine = leitwerk(*asked)
    assert (fine.exit_code, fine.stdout.count("the same")) == (0, 2), fine.output
    whole = path.read_bytes()
    for at in range(0, len(whole) - 1, max(1, len(whole) // 40)):
        path.write_bytes(whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :])
        assert leitwerk("verify-report", str(path)).exit_code in {1, 2}, at
    path.write_bytes(whole + b" ")
    assert leitwerk("verify-report", str(path)).exit_code == 1
    path.write_bytes(whole)
    changed = run()
    changed.values[7, 1] += 0.01
    (folder / "run.csv").write_text(changed.csv(), "utf-8")
    (folder / "kiln.yaml").write_text(text_with_papers().replace("78 °C", "79 °C"), "utf-8")
    other = leitwerk(*asked)
    assert (other.exit_code, "ANOTHER one" in other.stdout, "OTHERS" in other.stdout) == (
        1,
        True,
        True,
    )
    path.write_bytes(whole[:100])
    assert leitwerk("verify-report", str(path)).exit_code == 2


@pytest.mark.process
def test_a_pdf_in_german_is_the_same_each_time(folder, leitwerk):
    words = ("report", "run.csv", "--setup", "kiln.yaml", "--language", "de", "--kind", "transport", "--unit",
             "air_top=°F", "--to")  # fmt: skip
    for name in ("a.pdf", "b.pdf"):
        assert leitwerk(*words, name).exit_code == 1
    one, two = ((folder / name).read_bytes() for name in ("a.pdf", "b.pdf"))
    seal = re.compile(rb"leitwerk-seal.*")
    assert seal.sub(b"", one) == seal.sub(b"", two)
    pages = re.findall(rb"/Type /Page\b", one)
    assert len(pages) >= 2


@pytest.mark.parametrize(
    ("unit", "says"),
    [
        ("air_top=bar", "air_top is in °C, and cannot be shown in bar"),
        ("nowhere=K", "there is no channel 'nowhere'"),
        ("air_top", "is not NAME=UNIT"),
    ],
)
def test_units_that_do_not_fit(folder, leitwerk, unit, says):
    found = leitwerk("report", "run.csv", "--setup", "kiln.yaml", "--unit", unit, "--to", "a.csv")
    assert found.exit_code == 2
    assert says in found.stderr
    assert not (folder / "a.csv").exists()


@pytest.mark.process
def test_tables_for_a_spreadsheet_hold_no_formula(folder, leitwerk):
    setup = text_with_papers().replace("Humidity of the air", "=1+1")
    (folder / "kiln.yaml").write_text(setup, "utf-8")
    for name in ("r.xlsx", "r.csv"):
        assert leitwerk("report", "run.csv", "--setup", "kiln.yaml", "--to", name).exit_code == 1
    book = openpyxl.load_workbook(folder / "r.xlsx")
    assert book.sheetnames == ["about", "verdict", "summary", "events"]
    cells = [cell for sheet in book for row in sheet for cell in row]
    assert [cell.data_type for cell in cells if cell.value == "=1+1"] == ["s"]
    assert "'=1+1" in (folder / "r.csv").read_text("utf-8")


def test_templates_of_ones_own_and_those_that_fail(tmp_path):
    series, about = run(), About(title="T")

    def made(text):
        path = tmp_path / "mine.md"
        path.write_text(text, "utf-8")
        return make_report(series, about, None, ReportOptions(str(path))).markdown

    assert made("# {{ title }} {{ channels[0].name }}") == r"# T air_top"
    assert "Summary" in made('{% include "recording.md" %}')
    for text, says in (
        ("{{ nothing.at.all }}", "'nothing' is undefined"), ("{% if %}", "line 1"),
        ("a\n{% for x in %}", "line 2"), ("{{ 1 / 0 }}", "ZeroDivisionError"),
        ("{{ ().__class__.__mro__ }}", "unsafe"), ('{% include "/etc/passwd" %}', "/etc/passwd"),
        ("{{ title.x() }}", "has no attribute 'x'"),
    ):  # fmt: skip
        with pytest.raises(lw.FileProblem, match=re.escape(says)):
            made(text)
    with pytest.raises(lw.FileProblem, match="no kind of report 'odd'"):
        make_report(series, about, None, ReportOptions("odd"))
    with pytest.raises(lw.QuantityError, match="no channel 'air'"):
        make_report(series, about, None, ReportOptions(units={"air": parse_unit("°F")}))


def test_a_logo_that_is_no_picture(tmp_path):
    (tmp_path / "logo.png").write_text("no picture", "utf-8")
    setup = checked(text_with_papers(PAPERS + "  logo: logo.png\n"), str(tmp_path / "kiln.yaml"))
    with pytest.raises(lw.FileProblem, match="no picture for a logo"):
        make_report(run(), About(), setup, ReportOptions())
    out = io.BytesIO()
    Image.new("RGB", (300, 80), "navy").save(out, "PNG")
    (tmp_path / "logo.png").write_bytes(out.getvalue())
    assert make_report(run(), About(), setup, ReportOptions()).pictures["logo"] == out.getvalue()


def test_every_text_of_the_templates_has_a_translation():
    from importlib import resources

    shipped = resources.files("leitwerk.reports") / "templates"
    text = "".join((shipped / f"{kind}.md").read_text("utf-8") for kind in report_kinds())
    used = {*re.findall(r't\("([^"]+)"\)', text), *re.findall(r'set heading = "([^"]+)"', text)}
    assert used <= {*known_texts()}
    assert {"recording", "transport", "flow", "energy", "noise", "supply"} <= {*report_kinds()}


# ---------------------------------------------------------------------- records


def step(key, verdict, outcome, channel="air_top", **more):
    return StepResult(key=key, kind="point", verdict=verdict, outcome=outcome, at="2026-03-02T08:40:00+00:00",
                      channel=channel, unit="°C", reference=21.3, tolerance=0.5, **more)  # fmt: skip


PROOF = ProofRecord(
    proof=1, title="Kiln | <b>2</b>", setup="kiln.yaml", setup_hash="0" * 64,
    device=KeptIdentity(maker="T", model="fichte-8", serial="K2-00417", firmware="1.4"), address="x",
    by="Ida", instruments=["calibrator, K3-0815"], started="2026-03-02T08:40:00+00:00", finished="",
    planned=["a", "b", "c", "d"],
    steps=[
        step("a", "fail", "not passed", stage="as found", measured=22.0, deviation=0.7,
             expanded_uncertainty=0.06, reference_uncertainty=0.05),
        StepResult(key="b", kind="adjust", verdict="pass", outcome="passed", at="", channel="air_top",
                   done="offset: minus 0.7"),
        step("c", "pass", "passed", stage="as left", measured=21.31, deviation=0.01),
    ],
)  # fmt: skip
BATCH = BatchRecord(by="Ida", items={
    n: BatchEntry(serial=n, model="fichte-8", title="Kiln", address="x", setup_hash="0" * 64, state=state,
                  message="=1+1 | <script>\nmore") for n, state in (("1", "done"), ("2", "failed"))
})  # fmt: skip


@pytest.mark.parametrize(
    ("record", "kind", "outcome", "wanted"),
    [
        (PROOF, "proof", "unknown", ["2 of 3", "still to come", "0.7 ± 0.06 K", "offset: minus 0.7"]),
        # As left, the only point passes; that a step is still to come is not about the calibration.
        (PROOF, "calibration", "passed", ["as found", "21.3 °C ± 0.05 K", "as left", "offset: minus 0.7"]),
        (BATCH, "batch", "not passed", ["1 done, 1 failed", "=1+1", "fichte-8"]),
    ],
)  # fmt: skip
def test_the_report_of_a_record(record, kind, outcome, wanted, leitwerk, tmp_path):
    (tmp_path / "r.json").write_text(record.model_dump_json(), "utf-8")
    for name in ("r.html", "r.pdf", "r.csv", "r.xlsx"):
        path = tmp_path / name
        made = leitwerk("report", str(tmp_path / "r.json"), "--kind", kind, "--to", str(path))
        assert (made.exit_code, outcome in made.stdout) == (outcome != "passed", True), made.output
    text = (tmp_path / "r.html").read_text("utf-8").partition("<!-- leitwerk-seal")[0]
    assert "<script>" not in text
    assert "<b>2" not in text
    seen = re.sub(r"<[^>]*>", "", text)
    assert all(one in seen for one in wanted), seen
    assert "'=1+1" in (tmp_path / "r.csv").read_text("utf-8") or record is PROOF
    verify = ("verify-report", str(tmp_path / "r.pdf"), "--source", str(tmp_path / "r.json"))
    verified = leitwerk(*verify)
    assert (verified.exit_code, "as it was written" in verified.stdout) == (0, True)
    changed = record.model_copy(update={"by": "another"})
    (tmp_path / "r.json").write_text(changed.model_dump_json(), "utf-8")
    assert (leitwerk(*verify).exit_code, "ANOTHER one" in leitwerk(*verify).stdout) == (1, True)
    german = leitwerk("report", str(tmp_path / "r.json"), "--kind", kind, "--to", str(tmp_path / "d.html"),
                      "--language", "de")  # fmt: skip
    assert german.exit_code in {0, 1}
    assert "Unterschrift" in (tmp_path / "d.html").read_text("utf-8")


def test_what_is_no_record_or_has_no_such_report(leitwerk, tmp_path):
    record, to = tmp_path / "r.json", ("--to", str(tmp_path / "r.pdf"))
    for text, kind, says in (
        ("{}", "proof", "neither the record of a proof nor of a batch"),
        ("[" * 100_000, "proof", "neither the record of a proof"),
        ('{"proof": 1}', "proof", "is not the record of a proof"),
        (PROOF.model_dump_json(), "batch", "no report of the kind batch"),
        (BATCH.model_dump_json(), "noise", "no report of the kind noise"),
        (
            PROOF.model_copy(update={"steps": []}).model_dump_json(),
            "calibration",
            "no point of this proof",
        ),
    ):
        record.write_text(text, "utf-8")
        made = leitwerk("report", str(record), "--kind", kind, *to)
        assert (made.exit_code, says in made.stderr) == (2, True), made.output
    record.write_text(PROOF.model_dump_json(), "utf-8")
    words = ("--unit", "air_top=°F", "--from", "2026-03-02", "--times", "local")
    made = leitwerk("report", str(record), *to, *words)
    assert (
        made.exit_code,
        "--unit, --from, --times: for rows, not for a record" in made.stderr,
    ) == (
        2,
        True,
    )
    assert not (tmp_path / "r.pdf").exists()


def test_who_acknowledged_what_stands_in_a_report(leitwerk, tmp_path):
    (tmp_path / "kiln.yaml").write_text(text_with_papers(), "utf-8")
    (tmp_path / "run.csv").write_text(run(rows=200).csv(), "utf-8")
    (tmp_path / "attend.jsonl").write_text(
        '{"at": "2026-03-02T08:10:00+00:00", "kind": "operator", "subject": "air_top.too_hot",'
        ' "text": "acknowledge by Ida: steam | <valve>: unacknowledged -> acknowledged"}\n'
        '{"at": "2026-03-02T08:11:00+00:00", "kind": "link", "subject": "x", "text": "answers again"}\n'
        '{"at": "2025-03-02T08:10:00+00:00", "kind": "operator", "subject": "air_top.old", "text": ""}\n'
        "no JSON\n"
    )
    words = ("report", str(tmp_path / "run.csv"), "--setup", str(tmp_path / "kiln.yaml"), "--to")
    page = tmp_path / "r.html"
    assert leitwerk(*words, str(page), "--events", str(tmp_path / "attend.jsonl")).exit_code in {
        0,
        1,
    }
    text = page.read_text("utf-8")
    assert "acknowledge by Ida: steam | &lt;valve&gt;: unacknowledged -&gt; acknowledged" in text
    assert "air_top.old" not in text
    assert "answers again" not in text
    (tmp_path / "attend.jsonl").write_text("{}\n")
    made = leitwerk(*words, str(page), "--events", str(tmp_path / "attend.jsonl"))
    assert (made.exit_code, "holds no event" in made.stderr) == (2, True)


def test_states_are_drawn_as_steps_and_angles_are_not_joined_over_a_turn():
    figure = Figure()
    axes = figure.subplots(2)
    times = BEGIN + np.arange(4.0)
    door = Curve("door", parse_unit(""), states=StateNames(((0.0, "open"), (1.0, "closed"))))
    plot_channel(axes[0], door, times, np.array([0.0, 1.0, 1.0, 0.0]))
    assert axes[0].lines[0].get_drawstyle() == "steps-post"
    assert [text.get_text() for text in axes[0].get_yticklabels()] == ["open", "closed"]
    plot_channel(
        axes[1],
        Curve("vane", parse_unit("°"), turn=360.0),
        times,
        np.array([350.0, 358.0, 2.0, 8.0]),
    )
    assert np.isnan(axes[1].lines[0].get_ydata()).tolist() == [False, False, True, False, False]
