"""The runner: proofs, messages that are never lost, people who acknowledge, outputs left safe."""

import json
import os
import signal
import ssl
import subprocess
import sys
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
import trustme
from aiosmtpd.smtp import AuthResult

import leitwerk as lw
from conftest import EXAMPLES, PASSWORDS, MemoryLink, SteppedTime, checked, example, kept
from leitwerk.alarms.states import OperatorAction
from leitwerk.commissioning.alarm_proof import prove, warming
from leitwerk.commissioning.loop_check import Received, check_loop, pulse
from leitwerk.commissioning.proof_reference import ReferenceChannel
from leitwerk.datasheet.vocabulary import DRIVE_RELAY
from leitwerk.errors import FileProblem, QuantityError
from leitwerk.evaluation.course import parse_course
from leitwerk.monitoring.attendant import Attendant, AttendOptions
from leitwerk.monitoring.operator_requests import OperatorRequest, request_action
from leitwerk.monitoring.outbox import Outbox, SendFailed
from leitwerk.monitoring.senders import sender
from leitwerk.standins.flow import FlowTransmitter
from leitwerk.standins.logger import Logger
from leitwerk.standins.plant import Plant
from leitwerk.standins.profile import find_profile
from leitwerk.standins.services import Gateway, MailServer
from leitwerk.standins.wires import lay, parse_wire

GUARD = (EXAMPLES / "kiln-guard.yaml").read_text("utf-8")
DAY = datetime(2026, 3, 2, 12, tzinfo=UTC)
ALARM = "air_top.too_hot"
DISPLAY = """leitwerk: 1
title: Display loop, by the logger
device: {model: fichte-8, at: "modbus+tcp://127.0.0.1:1?unit=3", serial: K2-00417}
sample: every 10 s
channels:
  current:
    label: Display loop
    terminal: 7
    signal: 1..5 V
    scale: {1 V: 4 mA, 5 V: 20 mA}
    unit: mA
"""


@pytest.fixture
def gateway():
    one = Gateway()
    one.start()
    yield one
    one.stop()


class Bench:
    """A logger in memory that holds the guarded setup, and a clock that only moves when waited for."""

    def __init__(self, sheet, keep, gateway, text=GUARD, course="", *, armed=True):
        services = gateway.address if gateway else "http://127.0.0.1:9/messages"
        text = text.replace("http://127.0.0.1:8081/messages", services)
        text = text.replace(", mail: foreman@tannried.example", "")
        self.setup = checked(text, "guard.yaml")
        self.clock = SteppedTime()
        courses = {"air_top": parse_course(course)} if course else {}
        self.logger = Logger(sheet, find_profile("fichte-8"), Plant(courses=courses), self.clock)
        self.link = MemoryLink(self.logger)
        self.device = lw.Device(sheet, self.link)
        lw.upload(self.setup, self.device, kept(keep))
        self.seen = []
        time = replace(self.clock.clock, now=lambda: DAY + timedelta(seconds=self.clock.now_s))
        self.options = AttendOptions(
            Path(keep), armed=armed, passwords=PASSWORDS, on_event=self.seen.append, clock=time
        )

    def attend(self, duration_s, **more):
        one = Attendant(self.setup, self.device, self.options)
        one.attend(period_s=0.5, duration_s=duration_s, **more)
        return one

    def events(self, kind):
        return [(e.subject, e.text) for e in self.seen if e.kind == kind]


def course_of(setup_text=GUARD):
    channel = checked(setup_text).channel("air_top")
    return warming(next(a for a in channel.alarms if a.name == "too_hot"), channel)


# ---------------------------------------------------------------------- proofs


@pytest.mark.process
def test_all_that_should_happen_when_a_sensor_is_warmed_and_cools(sheet, tmp_path, gateway):
    bench = Bench(sheet, tmp_path, gateway, course=course_of())
    proof = prove(bench.setup, bench.device, bench.options, ALARM, duration_s=60.0)
    assert proof.outcome == "passed", str(proof)
    steps = {step.name: step for step in proof.steps}
    assert 4.5 <= float(steps["the alarm trips after 5 s"].seen.split()[1]) <= 6.5
    assert [m["to"] for m in gateway.messages] == ["+491700000001"]
    assert "°C above the stack, door shut" in gateway.messages[0]["text"]
    assert list((tmp_path / "K2-00417").glob("*-too-hot-snapshot.json"))
    order = [step.at for step in proof.steps[:3]]
    assert order == sorted(order)
    again = json.loads(json.dumps(proof.to_dict()))
    assert (again["outcome"], again["did_not_happen"]) == ("passed", [])


@pytest.mark.parametrize(
    ("change", "armed", "missing", "why"),
    [
        pytest.param({}, False, "output horn goes on", "not armed", id="not armed"),
        pytest.param(
            {"services": "off"}, True, "a message is sent to foreman", "not sent", id="gateway down"
        ),
        pytest.param(
            {"course": "21; to 82 in 1 s"}, True, "the value comes back", "", id="never cools"
        ),
        pytest.param(
            {"course": "21; stay 1 s"}, True, "the value goes above 78", "", id="never warm"
        ),
        pytest.param({"relay": 0}, True, "output fan goes on", "", id="relay not set up"),
    ],
)
def test_a_proof_says_what_did_not_happen(sheet, tmp_path, gateway, change, armed, missing, why):
    course = change.get("course", course_of())
    there = None if "services" in change else gateway
    bench = Bench(sheet, tmp_path, there, course=course, armed=armed)
    if "relay" in change:
        bench.logger.holding[40] = 0  # the relay follows no alarm any more
        bench.logger.taken_over()
    proof = prove(bench.setup, bench.device, bench.options, ALARM, duration_s=60.0)
    assert proof.outcome == "not passed"
    step = next(step for step in proof.steps if step.name.startswith(missing))
    assert step.outcome == "not passed"
    assert why in step.wrong
    assert "NOT PASSED: not seen, or wrong:" in str(proof)
    assert step.name in str(proof).splitlines()[-1]


def test_a_proof_of_no_alarm_names_those_that_there_are(sheet, tmp_path, gateway):
    bench = Bench(sheet, tmp_path, gateway)
    with pytest.raises(QuantityError, match=r"no alarm 'air_top\.cold'") as error:
        prove(bench.setup, bench.device, bench.options, "air_top.cold", duration_s=1.0)
    assert ALARM in error.value.valid


# ---------------------------------------------------------------------- attending


def test_the_safe_state_is_left_behind_and_nothing_is_told_twice(sheet, tmp_path, gateway):
    text = GUARD.replace("{pulse: horn, for: 3 s}", "{set: horn, to: on}")
    bench = Bench(sheet, tmp_path, gateway, text, course="85; stay 1 h")
    bench.attend(8.0)
    assert bench.events("output") == [("horn", "on"), ("horn", "off")]  # off when it was left
    assert bench.device.status_points()["relay.2.state"] == "off"
    assert len(gateway.messages) == 1
    bench.attend(5.0)  # another one takes up where the first ended
    assert len(gateway.messages) == 1


def test_outputs_go_to_safety_when_the_loop_dies(sheet, tmp_path, gateway):
    text = GUARD.replace("{pulse: horn, for: 3 s}", "{set: horn, to: on}")
    bench = Bench(sheet, tmp_path, gateway, text, course="85; stay 1 h")

    def boom():
        if bench.events("output"):
            raise KeyboardInterrupt
        return False

    with pytest.raises(KeyboardInterrupt):
        bench.attend(20.0, until=boom)
    assert bench.events("output") == [("horn", "on"), ("horn", "off")]


def test_an_output_that_did_not_answer_is_switched_again_and_left_safe(
    sheet, tmp_path, gateway, monkeypatch
):
    text = GUARD.replace("{pulse: horn, for: 3 s}", "{set: horn, to: on}")
    bench = Bench(sheet, tmp_path, gateway, text, course="85; stay 1 h")
    real, answers = lw.Device.write_point, iter([False, True, False])

    def write(device, point, value):
        real(device, point, value)
        if not next(answers, True):
            raise lw.LinkTimeout("no answer")

    monkeypatch.setattr(lw.Device, "write_point", write)
    bench.attend(8.0)
    assert [subject for subject, _ in bench.events("trouble")] == ["horn", "horn"]
    assert bench.events("output") == [("horn", "on"), ("horn", "off")]  # left in a second attempt
    assert bench.device.status_points()["relay.2.state"] == "off"
    one = Attendant(bench.setup, bench.device, bench.options)
    one.outputs.switches.failed("horn")  # it was told, and nobody heard an answer
    one.attend(period_s=0.5, duration_s=0.0)
    assert bench.events("output")[-1] == ("horn", "off")


def test_a_device_that_refuses_is_not_asked_again_and_again(sheet, tmp_path, gateway):
    text = GUARD.replace("{pulse: horn, for: 3 s}", "{set: horn, to: on}")
    bench = Bench(sheet, tmp_path, gateway, text, course="85; stay 1 h")
    bench.options = replace(bench.options, passwords={"operator": "0000"})
    bench.attend(10.0)
    assert [subject for subject, _ in bench.events("trouble")] == ["horn"]
    assert bench.events("output") == []


def test_a_device_is_attended_once(sheet, tmp_path, gateway):
    bench = Bench(sheet, tmp_path, gateway)

    def another():
        with pytest.raises(lw.DeviceInUse, match="attended already"):
            bench.attend(1.0)
        return True

    bench.attend(1.0, until=another)


def test_a_lost_link_is_an_event_trips_nothing_and_clears_nothing(sheet, tmp_path, gateway):
    text = GUARD.replace("when: message OK", "when: device lost").replace(
        "{acknowledge: air_top.too_hot}", '{log: "lost: {air_top}"}'
    )
    bench = Bench(sheet, tmp_path, gateway, text, course="85; stay 1 h")
    one = Attendant(bench.setup, bench.device, bench.options)
    one.attend(period_s=0.5, duration_s=8.0)
    assert one.active() == [ALARM]
    bench.link.fails_at = len(bench.link.requests)
    for _ in range(4):
        one.step()
    assert one.active() == [ALARM]
    assert [e for e in bench.events("log") if e[0] == "seen"] == [("seen", "lost: no reading")]
    bench.link.fails_at = None
    mine, bench.logger.profile = (
        bench.logger.profile,
        replace(bench.logger.profile, serial="K2-00418"),
    )
    one.step()
    assert len(bench.events("link")) == 1  # another device answers: nothing of it is taken
    bench.logger.profile = mine
    one.step()
    assert [text for _, text in bench.events("link")][1:] == ["answers again"]


def test_people_acknowledge_by_a_file_and_by_a_message(sheet, tmp_path, gateway):
    bench = Bench(sheet, tmp_path, gateway, course="85; stay 1 h")
    one = Attendant(bench.setup, bench.device, bench.options)
    one.attend(period_s=0.5, duration_s=8.0)
    shelve = OperatorRequest(
        alarm=ALARM, action=OperatorAction.SHELVE, lasts_s=60.0, by="Ida", note="steam"
    )
    request_action(tmp_path, "K2-00417", shelve)
    (tmp_path / "K2-00417" / "requests" / "x.json").write_text("{")
    one.step()
    assert [text for _, text in bench.events("operator")] == [
        "shelve by Ida: steam: unacknowledged -> shelved"
    ]
    assert ("request", "x.json is not a valid operator request; deleted") in bench.events("trouble")
    request_action(
        tmp_path, "K2-00417", OperatorRequest(alarm=ALARM, action=OperatorAction.UNSHELVE)
    )
    one.step()
    for number in ("+49 170 0000001", "+49 170 9999999"):
        gateway.post("/received", "", {"from": number, "text": "ok, I come"})
    one.messenger.receive()
    assert json.loads((tmp_path / "K2-00417" / "received.json").read_text()) == {"last": 2}
    one.step()
    assert bench.events("operator")[-1] == (ALARM, "acknowledge: unacknowledged -> acknowledged")
    assert ("unknown sender", "ignored") in bench.events("received")


def test_a_rule_changes_a_setting_with_backup_and_receipt(sheet, tmp_path, gateway):
    text = GUARD.replace("{snapshot: too hot}", "{change: sample.interval, to: 5 s}")
    bench = Bench(sheet, tmp_path, gateway, text, course="85; stay 1 h")
    bench.attend(8.0)
    assert bench.device.read_settings().values["sample.interval"] == 5.0
    assert "rule" in [r["what"]["kind"] for r in map(json.loads, (
        p.read_text() for p in (tmp_path / "K2-00417").glob("*-receipt.json")))]  # fmt: skip


def test_the_schedule_is_carried_out(sheet, tmp_path, gateway):
    text = GUARD.replace(
        "2026-03-02 06:00, stop: after 36 h", "2026-03-02 13:00:04, stop: after 5 s"
    )
    text = text.replace("start: 2026-03-03 18:00, stop: after 12 h", "start: when door is ajar")
    bench = Bench(sheet, tmp_path, gateway, text)
    one = bench.attend(20.0)
    assert bench.events("run") == [("drying", "start recording"), ("drying", "stop recording")]
    assert bench.device.status().recordings == 1
    bench.logger.disturbances.shorted.add("D1")  # the door opens: a contact that reads 0
    bench.clock.wait(1.0)
    one.step()
    assert bench.events("run")[-1] == ("cooling", "start recording")


def test_a_full_disk_keeps_no_output_from_being_switched(sheet, tmp_path, gateway, monkeypatch):
    bench = Bench(sheet, tmp_path, gateway, course="85; stay 1 h")
    one = Attendant(bench.setup, bench.device, bench.options)

    def full(*_, **__):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "open", full)
    monkeypatch.setattr("leitwerk.monitoring.attendant.write_atomic", _problem)
    monkeypatch.setattr("leitwerk.monitoring.outbox.write_atomic", _problem)
    for _ in range(16):
        one.step()
        bench.clock.wait(0.5)
    assert ("horn", "on") in bench.events("output")
    assert any("disk is full" in text for _, text in bench.events("trouble"))


def _problem(*_):
    raise FileProblem("the disk is full")


# ---------------------------------------------------------------------- messages


def put(outbox, text="hot", way="text_message", to="+491"):
    return outbox.put(
        way=way, to=to, contact="ida", subject="subject", text=text, now_s=DAY.timestamp()
    )


def test_nothing_is_lost_while_a_service_is_down_and_this_process_dies(tmp_path):
    outbox = Outbox(tmp_path)
    for text in ("one", "two"):
        put(outbox, text)

    def down(_):
        raise SendFailed("down")

    now = DAY.timestamp()
    assert outbox.deliver(down, now) == 0
    again = Outbox(tmp_path)  # another process
    assert len(again) == 2
    assert again.due(now) == []  # after a pause only
    pauses = []
    for _ in range(12):
        at = min(m.next_s for m in again._waiting.values())
        pauses.append(at - now)
        now = at
        again.deliver(down, now)
    assert pauses[:4] == [2, 4, 8, 16]
    assert max(pauses) == 600.0
    sent = []
    assert again.deliver(sent.append, now + 600.0) == 2
    assert [m.text for m in sent] == ["one", "two"]  # in their order
    assert (len(Outbox(tmp_path)), list(tmp_path.glob("*.json"))) == (0, [])


def test_a_damaged_message_is_told_and_not_lost(tmp_path):
    put(Outbox(tmp_path))
    (damaged,) = tmp_path.glob("*.json")
    damaged.write_text('{"outbox": 1, "id": 5')
    with pytest.raises(FileProblem, match="is not a message"):
        Outbox(tmp_path)
    assert damaged.exists()


def test_text_messages_and_web_calls_reach_the_gateway_once(tmp_path, gateway, monkeypatch):
    services = lw.parse_setup(GUARD).services.model_copy(update={"text_messages": gateway.address})
    send, outbox = sender(services), Outbox(tmp_path)
    one = put(outbox)
    send(one)
    send(one)  # sent again, as after a lost answer
    send(put(outbox, "a call", "web", gateway.address.replace("/messages", "/hook")))
    assert [(m["path"], m["text"]) for m in gateway.messages] == [
        ("/messages", "hot"),
        ("/hook", "a call"),
    ]
    gateway.token = "larch"
    with pytest.raises(SendFailed, match="answers 401"):
        send(put(outbox, "who?"))
    monkeypatch.setenv("LEITWERK_PASSWORD_GATEWAY", "larch")
    send(put(outbox, "me"))
    gateway.down_for = 1
    with pytest.raises(SendFailed, match="answers 503"):
        send(put(outbox, "later"))


def test_mails_are_taken_or_told_as_not_sent(tmp_path):
    server = MailServer(down_for=1)
    server.start()
    services = lw.parse_setup(GUARD).services.model_copy(update={"mail": server.address})
    send, mail = sender(services), put(Outbox(tmp_path), "zu heiß", "mail", "ida@tannried.example")
    with pytest.raises(SendFailed, match="did not take the mail"):
        send(mail)
    send(mail)
    with pytest.raises(SendFailed, match="did not take the mail"):
        send(replace(mail, subject="hot\nBcc: all@tannried.example"))
    server.stop()
    with pytest.raises(SendFailed, match="did not take the mail"):
        send(mail)
    (kept,) = server.mails
    assert (kept["from"], kept["to"]) == ("kiln2@tannried.example", ["ida@tannried.example"])
    assert "Subject: subject" in kept["content"]


# The package warns of a server that asks for a password without a TLS of its own.
@pytest.mark.filterwarnings("ignore:Requiring AUTH")
def test_a_mail_server_with_tls_wants_its_user_and_a_certificate_that_holds(tmp_path, monkeypatch):
    authority = trustme.CA()
    here, trusted = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER), ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    authority.issue_cert("127.0.0.1").configure_cert(here)
    authority.configure_trust(trusted)
    server = MailServer(
        ssl_context=here,
        auth_required=True,
        auth_require_tls=False,  # the package sees no TLS that was there from the start
        authenticator=lambda *asked: AuthResult(
            success=asked[-1].password == b"larch", handled=False
        ),
    )
    server.start()
    address = server.address.replace("smtp://", "smtps://kiln@")
    services = lw.parse_setup(GUARD).services.model_copy(update={"mail": address})
    send, mail = sender(services), put(Outbox(tmp_path), "hot", "mail", "ida@tannried.example")
    with pytest.raises(SendFailed, match="certificate verify failed"):
        send(mail)  # nobody knows this authority
    monkeypatch.setattr("ssl.create_default_context", lambda: trusted)
    with pytest.raises(SendFailed, match="did not take the mail"):
        send(mail)  # nobody knows the password
    monkeypatch.setenv("LEITWERK_PASSWORD_MAIL", "larch")
    send(mail)
    server.stop()
    assert [m["to"] for m in server.mails] == [["ida@tannried.example"]]


@pytest.mark.process
def test_topics_are_published_over_mqtt(tmp_path):
    with lw.start_standin("laerche") as station:
        broker = f"mqtt+tcp://{station.address.host}:{station.address.port}"
        services = lw.parse_setup(GUARD).services.model_copy(update={"broker": broker})
        sender(services)(put(Outbox(tmp_path), "hot", "topic", "tannried/kiln2/alarm"))
    with pytest.raises(SendFailed):
        sender(services)(put(Outbox(tmp_path), "hot", "topic", "tannried/kiln2/alarm"))


# ---------------------------------------------------------------------- outputs

FLOW = lw.find_datasheet("weide")
NO_WAIT = lw.Clock(wait=lambda _: None)


@pytest.fixture
def flow():
    device = FlowTransmitter(FLOW, find_profile("weide"), SteppedTime())
    return lw.Device(FLOW, MemoryLink(device))


@pytest.mark.parametrize(
    ("measured", "cause"),
    [
        (lambda asked: asked, ""),
        (lambda asked: asked + 0.3, "an offset of +0.3 mA"),
        (lambda asked: asked * 1.02, "a factor of 1.02"),
        (lambda asked: min(asked, 15.0), "goes no higher than 15 mA: the supply is too low"),
        (lambda asked: 11.5, "does not follow at all"),
        (lambda asked: asked + (0.5 if asked == 12.0 else 0.0), "follow no line"),
        (lambda asked: None if asked == 8.0 else asked, ""),
    ],
)
def test_a_loop_is_driven_compared_explained_and_given_back(flow, measured, cause):
    (wheel,) = checked(example("mill-race", "modbus+tcp://127.0.0.1:1?unit=7")).outputs
    before = flow.read_points([FLOW.own_readings["output.1"]])
    result = check_loop(
        wheel,
        flow,
        lambda asked: Received(measured(asked)),
        passwords={"operator": "3317"},
        clock=NO_WAIT,
    )
    assert [p.asked for p in result.points] == [4.0, 8.0, 12.0, 16.0, 20.0]
    assert [p.own for p in result.points] == [4.0, 8.0, 12.0, 16.0, 20.0]
    assert result.outcome == (
        "not passed" if cause else "unknown" if measured(8.0) is None else "passed"
    )
    assert cause in result.cause
    assert (cause == "") is (result.cause == "")
    assert result.reserve_v == 24.0 - 10.0 - 5.0
    after = flow.read_points([FLOW.own_readings["output.1"]])
    assert after["output.1"] == pytest.approx(before["output.1"], abs=0.1)  # its own again


@pytest.mark.parametrize(
    ("wire", "cause"),
    [
        ("250 Ω", ""),
        ("248 Ω", "a factor of 0.992"),
        ("250 Ω, 14 V", "goes no higher than 16 mA: the supply is too low"),
        ("250 Ω, reversed", "are the two wires swapped?"),
        ("", "not measured"),
    ],
)
def test_the_wire_between_two_devices_shows_in_the_loop(sheet, tmp_path, wire, cause):
    clock = SteppedTime()
    weide = FlowTransmitter(FLOW, find_profile("weide"), clock)
    logger = Logger(sheet, find_profile("fichte-8"), Plant(), clock)
    if wire:
        lay(parse_wire(f"weide A1, fichte-8 7, {wire}"), [weide, logger])
    reader, transmitter = lw.Device(sheet, MemoryLink(logger)), lw.Device(FLOW, MemoryLink(weide))
    (wheel,) = checked(example("mill-race", "modbus+tcp://127.0.0.1:1?unit=7")).outputs
    lw.upload(checked(DISPLAY), reader, kept(tmp_path, clock=clock.clock))
    other = ReferenceChannel(checked(DISPLAY), reader, "current", clock=clock.clock)
    result = check_loop(
        wheel, transmitter, lambda asked: other.received(wheel.loop),
        passwords={"operator": "3317"}, clock=clock.clock,
    )  # fmt: skip
    assert result.outcome == ("passed" if wire == "250 Ω" else "not passed" if wire else "unknown")
    assert cause in "; ".join(result.reasons)


def test_a_loop_is_given_back_when_the_other_end_fails(flow):
    (wheel,) = checked(example("mill-race", "modbus+tcp://127.0.0.1:1?unit=7")).outputs

    def fails(_):
        raise lw.LinkTimeout("no answer")

    with pytest.raises(lw.LinkTimeout):
        check_loop(wheel, flow, fails, passwords={"operator": "3317"}, clock=NO_WAIT)
    assert flow.read_points([FLOW.own_readings["output.1"]])["output.1"] > 10.0


def test_too_much_resistance_in_a_loop_is_found_on_paper():
    text = example("mill-race", "modbus+tcp://127.0.0.1:1?unit=7").replace(
        "load: 250 Ω", "load: 750 Ω"
    )
    (finding,) = [
        f for f in lw.check_setup(lw.parse_setup(text), FLOW).findings if f.rule == "loop-voltage"
    ]
    assert "at 20 mA the loop needs 25 V" in finding.message
    assert finding.valid == "at most 700 Ω"


def test_a_relay_is_pulsed_and_given_back(sheet, tmp_path, gateway):
    bench = Bench(sheet, tmp_path, gateway)
    outputs = {o.name: o for o in bench.setup.outputs}
    assert pulse(
        outputs["horn"], bench.device, 1.0, passwords=PASSWORDS, clock=bench.clock.clock
    ) == ("on", "off")
    with pytest.raises(QuantityError, match="stays on for 2 s at least"):
        pulse(outputs["fan"], bench.device, 1.0, passwords=PASSWORDS)
    (wheel,) = checked(example("mill-race", "modbus+tcp://127.0.0.1:1?unit=7")).outputs
    with pytest.raises(QuantityError, match="output wheel is not a relay"):
        pulse(wheel, bench.device, 1.0, passwords=PASSWORDS)


def test_the_device_switches_a_relay_off_when_the_computer_is_gone(sheet, tmp_path, gateway):
    bench = Bench(sheet, tmp_path, gateway)
    bench.device.log_in("operator", "1834")
    bench.device.write_point(sheet.point(DRIVE_RELAY, 2), "on")
    for seconds, state in ((20.0, "on"), (11.0, "off")):
        bench.clock.wait(seconds)
        assert bench.device.status_points()["relay.2.state"] == state


@pytest.mark.process
@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP])
def test_a_service_that_is_ended_leaves_outputs_safe(standin, tmp_path, gateway, number):
    text = GUARD.replace("{pulse: horn, for: 3 s}", "{set: horn, to: on}").replace(
        "after: 5 s", "after: 0 s"
    )
    text = text.replace("http://127.0.0.1:8081/messages", gateway.address)
    one = standin("--course", "air_top: 85")
    setup = tmp_path / "guard.yaml"
    setup.write_text(text.replace("modbus+tcp://127.0.0.1:5020?unit=3", str(one.address)), "utf-8")
    wanted = lw.read_setup(setup)
    with lw.connect(wanted) as device:
        lw.upload(wanted, device, kept(tmp_path / "kept"))
    words = [sys.executable, "-m", "leitwerk", "attend", str(setup), "--arm", "--every", "0.1 s"]
    known = {**os.environ, "LEITWERK_PASSWORD_OPERATOR": "1834"}
    with subprocess.Popen(words, stderr=subprocess.PIPE, text=True, env=known) as attending:
        for line in attending.stderr:
            if line.split()[1:4] == ["output", "horn", "on"]:
                attending.send_signal(number)
        assert attending.wait(20) == 0
    with lw.connect(wanted) as device:
        assert device.status_points()["relay.2.state"] == "off"


@pytest.mark.process
@pytest.mark.parametrize("number", [signal.SIGHUP, signal.SIGKILL])
def test_a_pulse_is_given_back_when_its_program_ends(standin, tmp_path, leitwerk, number):
    """When the terminal closes, by the program; when it is killed, the next command says and offers it."""
    setup = tmp_path / "guard.yaml"
    setup.write_text(example("kiln-guard", standin().address), "utf-8")
    wanted = lw.read_setup(setup)
    with lw.connect(wanted) as device:
        lw.upload(wanted, device, kept(tmp_path / "kept"))
    words = [
        sys.executable,
        "-m",
        "leitwerk",
        "pulse",
        str(setup),
        "horn",
        "--for",
        "60 s",
        "--arm",
    ]
    known = {**os.environ, "LEITWERK_PASSWORD_OPERATOR": "1834"}
    with (
        subprocess.Popen(words, env=known, stderr=subprocess.PIPE) as pulsing,
        lw.connect(wanted) as device,
    ):
        while device.status_points()["relay.2.state"] != "on":
            assert pulsing.poll() is None
        pulsing.send_signal(number)
        assert pulsing.wait(20) == (130 if number == signal.SIGHUP else -signal.SIGKILL)
        if number == signal.SIGKILL:
            seen = leitwerk("device", str(setup))
            assert "output horn was driven at 20" in seen.stderr
            assert "leitwerk release modbus+tcp://" in seen.stderr
            assert leitwerk("release", str(setup)).stdout == "output horn released\n"
        assert device.status_points()["relay.2.state"] == "off"
    assert "was driven" not in leitwerk("device", str(setup)).stderr
    assert "no output of this device was left" in leitwerk("release", str(setup)).stdout


def test_a_wire_that_cannot_be_laid_is_refused(sheet):
    logger = Logger(sheet, find_profile("fichte-8"), Plant(), SteppedTime())
    for text, says in (
        ("weide A1", "is not a wire"), ("weide A1, fichte-8 7, 3 kg", "says nothing of a wire"),
        ("weide A1, fichte-8 7", "no output 'weide A1' to wire"),
    ):  # fmt: skip
        with pytest.raises(QuantityError, match=says):
            lay(parse_wire(text), [logger])
