"""Campaigns and triggers of a setup: settings, what is refused, the timeline with its memory."""

import json

import pytest

import leitwerk as lw
from conftest import checked, example

SUPPLY = example("saw-supply", "modbus+tcp://127.0.0.1:5020?unit=1")
HEAD, TAIL = SUPPLY[: SUPPLY.index("# What the analyzer")], SUPPLY[SUPPLY.index("channels:") :]


def supply(*runs, triggers="dip: 85 %"):
    head = "\n".join(
        f"triggers: {{{triggers}}}" if line.startswith("triggers:") else line
        for line in HEAD.splitlines()
    )
    schedule = "\n".join(["schedule:", *(f"  {run}" for run in runs)]) if runs else ""
    return checked(f"{head}\n{schedule}\n{TAIL}")


@pytest.mark.parametrize(
    ("run", "wanted"),
    [
        ("{stores: trends, every: 3 s, stop: after 1 h}",
         {"stores": "trends", "start": "at once", "lasts": 3600.0, "every": 3.0}),
        ("{stores: trends}", {"start": "at once", "lasts": 0.0, "every": 600.0}),
        ("{stores: events, at_most: 7, start: after 2 h}",
         {"stores": "events", "start": "after", "wait": 7200.0, "lasts": 0.0, "at_most": 7.0}),
        ("{stores: inrush, start: daily at 06:30, stop: after 30 min}",
         {"start": "daily", "wait": 23_400.0, "lasts": 1800.0, "at_most": 22.0}),
        # The night in which the clocks are put back, an hour of which comes twice.
        ("{stores: events, start: 2026-10-25 02:30 +01:00, stop: 2026-10-25 03:30}",
         {"start": "at time", "time": "2026-10-25 02:30:00", "lasts": 3600.0}),
        ("{stores: events, start: 2026-10-25 01:30, stop: 2026-10-25 03:30}", {"lasts": 10_800.0}),
    ],
)  # fmt: skip
def test_a_campaign_becomes_settings(run, wanted):
    found = supply(f"one: {run}")
    assert found.ok, found.findings
    values = found.settings.values
    assert {key: values[f"campaign.1.{key}"] for key in wanted} == wanted
    assert (values["campaign.1.name"], values["campaign.2.stores"]) == ("one", "off")
    assert (values["trigger.dip"], values["trigger.swell"]) == (85.0, 110.0)
    assert not found.account.attended


@pytest.mark.parametrize(
    ("runs", "triggers", "words"),
    [
        (["a: {stores: trends, at_most: 5}"], "", "trends are stored as long as they last"),
        (["a: {stores: events, every: 5 s}"], "", "events come when they come"),
        (["a: {stores: events, start: when p above 1 kW}"], "", "begins at a time"),
        (["a: {stores: events, stop: 2026-03-05 06:00}"], "", "begins at none that is known before"),
        (["a: {stores: events, start: 2026-03-29 02:30}"], "", "2026-03-29 02:30"),
        ([f"r{k}: {{stores: alarms, at_most: 1, start: after {k} h, stop: after 1 h}}" for k in range(7)],
         "", "has 6 campaigns, this setup has 7"),
        (["a: {stores: trends, every: 1 s, stop: after 7 d}"], "", "take 604,800 rows of memory at most"),
        ([], "dip: 110 %", "these thresholds find no events"),
        ([], "dip: 200 V", "V"),
        ([], "inrush: 3 V", "V"),
        ([], "dip: 5 %, interruption: 1 %", "outside what it can hold"),
        ([], "change: 500 %", ""),
    ],
)  # fmt: skip
def test_what_an_analyzer_cannot_is_an_error(runs, triggers, words):
    found = supply(*runs, triggers=triggers or "dip: 90 %")
    if not words:
        assert found.ok  # worked by Leitwerk alone
        return
    assert any(f.is_error and words in str(f) for f in found.findings), found.findings


@pytest.mark.parametrize(
    ("currents", "words"),
    [("0/5 A", "has a side of 0"), ("200/0 A", "has a side of 0"), ("0 mV/A", "shows no current"),
     ("200/5", "is not a transformer ratio"), ("1 mV/B", "is no current sensor")],
)  # fmt: skip
def test_a_ratio_that_cannot_be_is_one_finding_at_its_place(leitwerk, tmp_path, currents, words):
    path = tmp_path / "one.yaml"
    path.write_text(SUPPLY.replace("currents: 200/5 A", f"currents: {currents}"), "utf-8")
    found = leitwerk("check", str(path), "--json")
    errors = [f for f in json.loads(found.stdout)["findings"] if f["severity"] == "error"]
    assert [f["path"] for f in errors if "u1" in f["path"]] == []
    assert words in errors[0]["message"]


def test_a_model_without_campaigns_refuses_them():
    text = example("kiln", "modbus+tcp://127.0.0.1:5020?unit=3")
    found = checked(f"{text}\nschedule: {{a: {{stores: trends}}}}\n")
    assert any("stores nothing by itself" in f.message for f in found.findings if f.is_error)


def test_the_timeline_shows_what_runs_together_and_what_memory_it_takes(leitwerk, tmp_path):
    path = tmp_path / "one.yaml"
    path.write_text(SUPPLY, "utf-8")
    shown = leitwerk("timetable", str(path), "--from", "2026-03-02 06:00")
    assert shown.exit_code == 0
    lines = shown.stdout.splitlines()
    assert "2026-03-02 06:00 +01:00  to  2026-03-09 06:00 +01:00     week (trends)" in lines
    assert any("too_much (alarms), daily, 31 times" in line for line in lines)
    memory = next(line for line in lines if line.startswith("memory"))
    assert "89,058 of 100,000 rows at most" in memory
    data = json.loads(
        leitwerk("timetable", str(path), "--from", "2026-03-02 06:00", "--json").stdout
    )
    uses = {use["run"]: use["rows"] for use in reversed(data["memory"])}
    assert uses == {
        "week": 1008.0, "events": 60_000.0, "spikes": 10_000.0, "motors": 18_000.0, "too_much": 50.0,
    }  # fmt: skip
    path.write_text(SUPPLY.replace("motors: {stores: inrush", "motors: {stores: events"), "utf-8")
    both = leitwerk("timetable", str(path), "--from", "2026-03-02 06:00")
    assert (both.exit_code, "while events still" in both.stdout) == (1, True), both.output


@pytest.mark.parametrize(
    ("model", "address", "password", "extra"),
    [
        ("saw-supply", "modbus+tcp://127.0.0.1:5020?unit=1", "5206", ""),
        ("saw-hall", "scpi+tcp://127.0.0.1:5025", "larch", "  start: above 80 dB\n"),
        ("saw-hall", "scpi+tcp://127.0.0.1:5025", "larch", "  start: 2026-03-02 06:00\n"),
    ],
)
def test_what_a_setup_says_is_adopted_by_the_same_sections(model, address, password, extra):
    del password
    text = example(model, address)
    if extra:
        text = text.replace("sound:\n", f"sound:\n{extra}")
    found = checked(text)
    assert found.ok, found.findings
    identity = lw.Identity(
        "Tannried Instrumente", found.datasheet.model, found.setup.device.serial, "1"
    )
    from leitwerk.transfer.adopt import adopt

    adopted = adopt(found.settings, identity, address, found.datasheet)
    again = checked(adopted)
    assert again.ok, adopted
    assert "would change" not in adopted
    said = dict(found.settings.values)
    assert {name: again.settings.values.get(name) for name in said} == said, adopted
    own = adopted.partition("settings:")[2]
    assert "campaign." not in own
    assert "evaluation.1" not in own
