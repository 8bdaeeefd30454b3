"""A datasheet as the guide's page has it, against an independent server of the device it describes."""

import asyncio
import re
import struct
import threading

import pytest
from pymodbus.server import ModbusTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice

import leitwerk as lw
from conftest import ROOT

PAGE = (ROOT / "docs" / "guide" / "own-device.md").read_text("utf-8")
DATASHEET, SETUP, SECOND = re.findall(
    r"```yaml\n((?:datasheet|leitwerk): 1\n.*?)```", PAGE, re.DOTALL
)


def words(layout, *values):
    raw = struct.pack(layout, *values)
    return list(struct.unpack(f">{len(raw) // 2}H", raw))


@pytest.fixture
def pump():
    """The port and the holding registers of a pump controller that Leitwerk has never seen."""
    inputs = words(">16sI", b"pump-7", 20417) + words(">Hh", 342, -1450)
    inputs += [0x2603, 0x0208, 0x4015]
    holding = [*words(">I", 3500), 0x0062] + [0] * 97 + [0, 0]
    loop, started, port = asyncio.new_event_loop(), threading.Event(), []

    async def serve():
        bits = [SimData(0, values=[False] * 16, datatype=DataType.BITS)]

        async def mirror(function, _, address, count, registers, values):
            if values is not None:
                holding[address : address + count] = values
            elif function == 3:
                registers[:] = holding[: len(registers)]

        blocks = (
            bits, bits,
            [SimData(0, values=holding, datatype=DataType.REGISTERS)],
            [SimData(0, values=inputs, datatype=DataType.REGISTERS)],
        )  # fmt: skip
        device = SimDevice(1, simdata=blocks, action=mirror)
        server = ModbusTcpServer(device, address=("127.0.0.1", 0))
        await server.serve_forever(background=True)
        port.append(server.transport.sockets[0].getsockname()[1])
        started.set()
        await stop.wait()
        await server.shutdown()

    stop = asyncio.Event()
    thread = threading.Thread(target=lambda: loop.run_until_complete(serve()), daemon=True)
    thread.start()
    assert started.wait(10)
    yield port[0], holding
    loop.call_soon_threadsafe(stop.set)
    thread.join(10)
    loop.close()


def test_the_page_leads_to_a_working_device(pump, leitwerk, tmp_path, monkeypatch):
    port, holding = pump
    (tmp_path / "datasheets").mkdir()
    (tmp_path / "datasheets" / "pump-7.yaml").write_text(DATASHEET, "utf-8")
    (tmp_path / "pump.yaml").write_text(SETUP.replace(":5020", f":{port}"), "utf-8")
    monkeypatch.chdir(tmp_path)

    checked = leitwerk("datasheet", "datasheets/pump-7.yaml").stdout
    assert checked in PAGE.replace("\n    ", "\n")
    tried = leitwerk("datasheet", "pump-7", "--try", f"modbus+tcp://127.0.0.1:{port}?unit=1")
    assert tried.exit_code == 0
    assert tried.stdout in PAGE.replace("\n    ", "\n")

    assert leitwerk("check", "pump.yaml").exit_code == 0
    uploaded = leitwerk("upload", "pump.yaml")
    assert uploaded.exit_code == 0, uploaded.stderr
    assert holding[:3] == [0, 3400, 0x00A3]
    assert holding[99:101] == [0, 0]  # logged out again
    live = leitwerk("live", "pump.yaml", "--for", "0.3 s")
    assert "PASSED: 2 of 2 expectations met" in live.stdout


def test_the_pages_setup_has_no_findings():
    findings = lw.check_setup(lw.parse_setup(SETUP), lw.parse_datasheet(DATASHEET)).findings
    assert findings == ()


def test_the_second_example_leaves_no_doubt():
    sheet = lw.parse_datasheet(SECOND, file="tx4.yaml")
    assert (sheet.doubts, sheet.commands, sheet.alarms_by_input) == ((), ("commit",), True)
