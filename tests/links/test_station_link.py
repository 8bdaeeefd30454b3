"""Stations that sleep: what is asked of them, when it is in force, and what a broker may bring."""

import contextlib
import json
import shutil
import socket
import ssl
import subprocess
import threading
import time
from datetime import UTC, datetime, timedelta

import jsonschema
import paho.mqtt.client as paho
import pytest
import trustme
from hypothesis import given
from hypothesis import strategies as st
from paho.mqtt.enums import CallbackAPIVersion

import leitwerk as lw
from conftest import checked, example
from leitwerk.links.mqtt import StationLink
from leitwerk.parsing.address import parse_address
from leitwerk.project.passwords import broker_password
from leitwerk.protocols.station import (
    Answer,
    Desired,
    RequestStatus,
    State,
    Topics,
    build,
    build_senml,
    is_overdue,
    judge,
    parse_desired,
    parse_senml,
    parse_state,
    station_schema,
)
from leitwerk.standins.profile import find_profile
from leitwerk.standins.station import Station
from leitwerk.transfer.station_request import read_station, request_setup

NOW = datetime(2026, 3, 2, 8, 40, tzinfo=UTC)
SHEET = lw.find_datasheet("laerche")
OPTIONS = lw.LinkOptions(5.0)
# A day passes in about nine seconds: the station wakes every 0.36 s.
FAST = ("--time-factor", "10000")


def wait_for(broker_ready):
    for _ in range(200):
        with contextlib.suppress(OSError), socket.create_connection(broker_ready, 0.2):
            return
        time.sleep(0.02)
    raise AssertionError("the broker does not listen")


@pytest.fixture(params=["package", "server"])
def broker(request, tmp_path):
    """A broker out of a Python package, and a real one where one is installed."""
    if request.param == "package":
        yield []
        return
    program = shutil.which("mosquitto") or shutil.which("/usr/sbin/mosquitto")
    if program is None:
        pytest.skip("no broker server is installed here")
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    config = tmp_path / "broker.conf"
    config.write_text(f"listener {port} 127.0.0.1\nallow_anonymous true\nmax_queued_messages 0\n")
    process = subprocess.Popen([program, "-c", str(config)], stderr=subprocess.DEVNULL)
    wait_for(("127.0.0.1", port))
    yield ["--broker", f"127.0.0.1:{port}"]
    process.terminate()
    process.wait()


@pytest.fixture
def head_water(broker, tmp_path):
    """Starts a station, and gives its setup and a link to it."""
    running, links = [], []

    def start(*words):
        running.append(lw.start_standin("laerche", *broker, *words))
        text = example("head-water", running[-1].address)
        (tmp_path / "hw.yaml").write_text(text, encoding="utf-8")
        links.append(StationLink(running[-1].address, "laerche", serial="BS-0031", options=OPTIONS))
        return checked(text, "hw.yaml"), links[-1]

    yield start
    for link in links:
        link.close()
    for one in running:
        one.stop()


def settled(setup, link, folder, status):
    """The view once the station has woken and said so."""
    for _ in range(200):
        view = read_station(setup, link, lw.UploadOptions(folder, {}))
        if view.status is status:
            return view
        time.sleep(0.05)
    raise AssertionError(view)


@pytest.mark.process
def test_requested_then_in_force_and_read_like_any_device(head_water, leitwerk, tmp_path):
    setup, link = head_water("--time-factor", "2000")
    asked = request_setup(setup, link, lw.UploadOptions(tmp_path, {}, "Ida"), expires_s=3600)
    assert asked.status is RequestStatus.REQUESTED
    assert {c.setting for c in asked.waiting} == {
        *setup.setup.settings,
        "sample.interval",
        "report.interval",
    }
    view = settled(setup, link, tmp_path, RequestStatus.IN_FORCE)
    assert view.state.settings["sensor.depth"] == 1.2
    assert request_setup(setup, link, lw.UploadOptions(tmp_path, {})).desired.id == asked.desired.id
    path = str(tmp_path / "hw.yaml")
    shown = leitwerk("station", path)
    assert (shown.exit_code, "in force since" in shown.stdout) == (0, True)
    assert "PASSED: 3 of 3" in leitwerk("live", path, "--for", "0.3 s").stdout
    assert "clock" in leitwerk("device", path).stdout
    adopted = str(tmp_path / "adopted.yaml")
    assert (
        leitwerk("adopt", str(link.address), "--model", "laerche", "--to", adopted).exit_code == 0
    )
    assert "nothing to change" in leitwerk("upload", adopted, "--plan").stdout


@pytest.mark.process
def test_a_change_while_one_waits_replaces_it(head_water, leitwerk, tmp_path):
    setup, link = head_water("--time-factor", "1")  # it sleeps for an hour
    first = request_setup(setup, link, lw.UploadOptions(tmp_path / "kept", {}, "Ida"))
    (tmp_path / "hw.yaml").write_text(
        setup.setup.source.content.decode().replace("every 5 min", "every 2 min"), encoding="utf-8"
    )
    path = str(tmp_path / "hw.yaml")
    second = leitwerk("request", path, "--by", "Jo", "--expires", "1 h")
    assert (second.exit_code, "superseded" in second.stdout, "by Ida" in second.stdout) == (
        1,
        True,
        True,
    )
    kept = json.loads((tmp_path / "kept" / "BS-0031" / "requests.json").read_text("utf-8"))[
        "requests"
    ]
    assert kept[0]["superseded_by"] == kept[1]["id"] != first.desired.id
    upload = leitwerk("upload", path)
    assert (upload.exit_code, "leitwerk request" in upload.stderr) == (4, True)
    clock = lw.Clock(now=lambda: datetime.now(UTC) + timedelta(hours=3))
    later = read_station(setup, link, lw.UploadOptions(tmp_path, {}, clock=clock))
    assert (later.status, later.overdue) == (RequestStatus.EXPIRED, True)


@pytest.mark.process
def test_a_station_refuses_all_of_it_with_a_reason(head_water, tmp_path):
    setup, link = head_water(*FAST, "--flat-battery")
    request_setup(setup, link, lw.UploadOptions(tmp_path, {}))
    view = settled(setup, link, tmp_path, RequestStatus.REFUSED)
    assert "my battery is flat" in dict(view.rows())["change"]
    assert view.state.settings["name"] == "laerche"


@pytest.mark.process
def test_a_broker_that_keeps_nothing_of_it_or_another(head_water, leitwerk, tmp_path):
    setup, link = head_water("--time-factor", "1")
    path = tmp_path / "hw.yaml"
    path.write_text(
        setup.setup.source.content.decode().replace("BS-0031", "BS-0032"), encoding="utf-8"
    )
    silent = leitwerk("station", str(path), "--timeout", "0.5")
    assert (silent.exit_code, "keeps no state of a laerche BS-0032" in silent.stderr) == (3, True)
    at = link.address
    path.write_text(
        setup.setup.source.content.decode().replace(str(at), "mqtt+tcp://127.0.0.1:9"), "utf-8"
    )
    assert "no broker answers there" in leitwerk("station", str(path)).stderr
    kiln = tmp_path / "kiln.yaml"
    kiln.write_text(example("kiln", "modbus+tcp://127.0.0.1"), encoding="utf-8")
    assert "is not a station that sleeps" in leitwerk("request", str(kiln)).stderr


@pytest.mark.process
def test_messages_that_are_none_stop_with_words(head_water):
    _, link = head_water("--time-factor", "1")
    client = paho.Client(CallbackAPIVersion.VERSION2)
    client.connect(link.address.host, link.address.port)
    client.loop_start()
    topics = Topics.of("laerche", "BS-0031")
    client.publish(topics.state, b'{"state": 2}', qos=1, retain=True).wait_for_publish(5)
    client.disconnect()
    client.loop_stop()
    with pytest.raises(lw.LinkError, match="not a message of a station"):
        link.state()


@pytest.mark.process
def test_a_broker_that_wants_a_password(monkeypatch):
    """MQTT 3.1.1, 3.2.2.3: return code 5, not authorized."""
    listener = socket.create_server(("127.0.0.1", 0))

    def refuse():
        with listener, listener.accept()[0] as connection:
            connection.recv(300)
            connection.sendall(b"\x20\x02\x00\x05")
            connection.recv(300)

    threading.Thread(target=refuse, daemon=True).start()
    at = parse_address(f"mqtt+tcp://127.0.0.1:{listener.getsockname()[1]}")
    link = StationLink(at, "laerche", options=lw.LinkOptions(1.0))
    with pytest.raises(lw.LinkError, match="refused the connection"):
        link.state()
    monkeypatch.delenv("LEITWERK_PASSWORD_BROKER", raising=False)
    options = lw.LinkOptions(password=broker_password)
    named = StationLink(parse_address("mqtt+tcp://ida@127.0.0.1:9"), "laerche", options=options)
    with pytest.raises(lw.DeviceRefused, match="wants the password of the broker"):
        named.state()


def change(**more):
    return Desired(id="0123456789abcdef", by="Ida", at=NOW, settings={"name": "A"}, **more)


def state(answer=None, **more):
    return State(model="laerche", serial="1", at=NOW, next=NOW + timedelta(hours=1), interval_s=3600,
                 settings={}, answer=answer, **more)  # fmt: skip


@pytest.mark.parametrize(
    ("desired", "answer", "after", "standing"),
    [
        (None, None, 0, RequestStatus.NONE),
        (change(), None, 0, RequestStatus.REQUESTED),
        (change(), ("in force", "0123456789abcdef"), 0, RequestStatus.IN_FORCE),
        (change(), ("refused", "0123456789abcdef"), 0, RequestStatus.REFUSED),
        (change(), ("in force", "fedcba9876543210"), 0, RequestStatus.REQUESTED),
        (change(expires=NOW + timedelta(hours=1)), None, 3599, RequestStatus.REQUESTED),
        (change(expires=NOW + timedelta(hours=1)), None, 3600, RequestStatus.EXPIRED),
        (change(expires=NOW), ("in force", "0123456789abcdef"), 9999, RequestStatus.IN_FORCE),
    ],
)
def test_how_a_change_stands(desired, answer, after, standing):
    said = answer and Answer(result=answer[0], id=answer[1], at=NOW)
    assert judge(desired, state(said), NOW + timedelta(seconds=after)) is standing


def test_overdue_is_whoever_missed_two_reports():
    assert not is_overdue(state(), NOW + timedelta(hours=2))
    assert is_overdue(state(), NOW + timedelta(hours=2, seconds=1))


def test_a_station_takes_all_or_nothing_and_no_expired_change():
    one = Station(SHEET, find_profile("laerche"))
    before = dict(one.settings)
    for desired, says in (
        (change(expires=NOW), "expired"),
        (
            Desired(id="a" * 16, by="", at=NOW, settings={"name": "B", "speed": 1.0}),
            "no setting speed",
        ),
        (
            Desired(id="b" * 16, by="", at=NOW, settings={"name": "B", "report.interval": 1.0}),
            "outside",
        ),
    ):
        one.take(desired, NOW)
        assert (one.answer.result, one.settings) == ("refused", before)
        assert says in one.answer.reason


def test_messages_are_those_of_the_schema_and_senml_those_of_the_standard():
    """RFC 8428, 5.1.1 to 5.1.3."""
    schema = station_schema()
    one = Station(SHEET, find_profile("laerche"))
    for message in (change(expires=NOW), one.state(NOW, 1.0)):
        jsonschema.validate(json.loads(build(message)), schema)
    pack = b'[{"n":"urn:dev:ow:10e2073a01080063","u":"Cel","v":23.1}]'
    (record,) = parse_senml(pack, 1e9)
    assert (record.name, record.unit, record.value) == ("urn:dev:ow:10e2073a01080063", "Cel", 23.1)
    pack = (b'[{"bn":"urn:dev:ow:1:","bt":1.276020076001e+09,"bu":"A","bver":5,"n":"voltage","u":"V",'
            b'"v":120.1},{"n":"current","t":-5,"v":1.2},{"n":"current","t":-4,"v":1.3}]')  # fmt: skip
    found = parse_senml(pack, 0.0)
    assert [(r.name, r.unit, r.value) for r in found][:2] == [
        ("urn:dev:ow:1:voltage", "V", 120.1), ("urn:dev:ow:1:current", "A", 1.2),
    ]  # fmt: skip
    assert found[1].time_s == pytest.approx(1276020071.001)
    assert parse_senml(b'[{"n":"a","v":1,"t":-5}]', 100.0)[0].time_s == 95.0
    built = parse_senml(build_senml("urn:x", 1.5e9, {"level": (1.4, "m")}), 0.0)
    assert (built[0].name, built[0].time_s, built[0].value) == ("urn:x/level", 1.5e9, 1.4)
    with pytest.raises(lw.LinkError, match="not known here"):
        parse_senml(b'[{"n":"a","v":1,"must_":1}]', 0.0)


json_text = st.recursive(
    st.none() | st.booleans() | st.floats() | st.integers() | st.text(max_size=6),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(st.sampled_from(["n", "v", "bn", "bt", "t", "u", "id", "state"]), inner)
    ),
).map(lambda value: json.dumps(value).encode())


@given(payload=st.binary(max_size=80) | json_text)
def test_any_payload_is_a_message_or_an_error(payload):
    for parse in (parse_desired, parse_state, lambda p: parse_senml(p, 0.0)):
        with contextlib.suppress(lw.LinkError):
            parse(payload)


@pytest.mark.process
def test_a_station_tests_itself_before_it_starts(head_water, tmp_path):
    setup, link = head_water(*FAST, "--open", "1")
    request_setup(setup, link, lw.UploadOptions(tmp_path, {}), self_test=True)
    view = settled(setup, link, tmp_path, RequestStatus.REFUSED)
    rows = dict(view.rows())
    assert "the self-test failed: pressure: 0 is not plausible" in rows["change"]
    assert "pressure: 0 is not plausible" in rows["self-test"]
    assert view.state.settings["recording"] == "stopped"


def test_a_recording_starts_and_ends_at_its_times():
    one = Station(SHEET, find_profile("laerche"))
    times = {"recording": "running", "recording.from": NOW.isoformat(),
             "recording.until": (NOW + timedelta(hours=1)).isoformat()}  # fmt: skip
    one.take(Desired(id="c" * 16, by="", at=NOW, self_test=True, settings=times), NOW)
    assert (one.answer.result, one.self_test.outcome) == ("in force", "passed")
    for minutes, expected in ((-1, "stopped"), (0, "running"), (59, "running"), (60, "stopped")):
        said = one.state(NOW + timedelta(minutes=minutes), 1.0)
        assert said.status["recording"] == expected


@pytest.fixture
def over_tls():
    """Puts TLS before a broker, as a proxy: the certificate of an authority that nobody knows."""
    authority = trustme.CA()
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    ends = []

    def start(target, name):
        authority.issue_cert(name).configure_cert(context)
        listener = socket.create_server(("127.0.0.1", 0))

        def serve():
            with contextlib.suppress(OSError), listener, listener.accept()[0] as bare:
                near = context.wrap_socket(bare, server_side=True)
                with near, socket.create_connection(target) as far:
                    there = threading.Thread(target=pump, args=(near, far), daemon=True)
                    there.start()
                    pump(far, near)
                    there.join(5)

        def pump(source, sink):
            with contextlib.suppress(OSError):
                while data := source.recv(4096):
                    sink.sendall(data)
            with contextlib.suppress(OSError):
                sink.shutdown(socket.SHUT_WR)

        thread = threading.Thread(target=serve, daemon=True)
        thread.start()
        ends.append(thread)
        return listener.getsockname()[1]

    yield authority, start
    for thread in ends:
        thread.join(5)


# The client package leaves a socket behind whose handshake has failed.
@pytest.mark.process
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")
def test_tls_is_spoken_and_the_certificate_and_its_name_are_checked(
    head_water, over_tls, tmp_path, monkeypatch
):
    _, plain = head_water("--time-factor", "1")
    authority, start = over_tls
    target = (plain.address.host, plain.address.port)
    known = tmp_path / "authority.pem"

    def ask(name, *, trusted):
        authority.cert_pem.write_to_path(str(known))
        monkeypatch.setenv("SSL_CERT_FILE", str(known) if trusted else str(tmp_path / "none.pem"))
        at = parse_address(f"mqtt+tls://127.0.0.1:{start(target, name)}")
        link = StationLink(at, "laerche", serial="BS-0031", options=OPTIONS)
        try:
            return link.state().serial
        finally:
            link.close()

    assert ask("127.0.0.1", trusted=True) == "BS-0031"
    for name, trusted in (("127.0.0.1", False), ("other.example", True)):
        with pytest.raises(lw.LinkError, match="CERTIFICATE_VERIFY_FAILED"):
            ask(name, trusted=trusted)


def test_a_broker_of_version_5_only_is_spoken_to_in_that():
    """MQTT 3.1.1, 3.2.2.3: return code 1. MQTT 5.0, 3.2, 3.9 and 3.3."""
    listener, levels = socket.create_server(("127.0.0.1", 0)), []
    topic = Topics.of("laerche", "1").state.encode()
    body = len(topic).to_bytes(2, "big") + topic + b"\x00" + build(state())
    length = bytes([len(body) % 128 | 128, len(body) // 128])

    def serve():
        with listener:
            for answer in (b"\x20\x02\x00\x01", b"\x20\x03\x00\x00\x00"):
                with listener.accept()[0] as connection:
                    levels.append(connection.recv(300)[8])
                    connection.sendall(answer)
                    if len(levels) < 2:
                        connection.recv(300)
                        continue
                    subscribe = connection.recv(2000)
                    connection.sendall(b"\x90\x04" + subscribe[2:4] + b"\x00\x01")
                    connection.sendall(b"\x31" + length + body)
                    while connection.recv(300):
                        pass

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    at = parse_address(f"mqtt+tcp://127.0.0.1:{listener.getsockname()[1]}")
    link = StationLink(at, "laerche", options=OPTIONS)
    assert link.state().serial == "1"
    link.close()
    thread.join(5)
    assert levels == [4, 5]
