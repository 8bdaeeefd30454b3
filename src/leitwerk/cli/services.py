"""leitwerk services: the simulated gateway and mail server, to try rules on."""

from __future__ import annotations

import threading

import click

from leitwerk.cli.exit_codes import FINE


@click.command()
@click.option("--gateway-port", default=0, type=click.IntRange(0, 65535), show_default="a free one")
@click.option("--mail-port", default=0, type=click.IntRange(0, 65535), show_default="a free one")
@click.option("--down-for", default=0, type=click.IntRange(0, 10_000), metavar="N",
              help="Refuse the first N messages of each kind.")  # fmt: skip
def services(gateway_port: int, mail_port: int, down_for: int) -> int:
    """Run a simulated gateway for text messages (HTTP) and a mail server (SMTP) until Ctrl+C.

    They listen on the loopback address, print where, and print what they are given. GET /messages
    lists it, POST /received with {"from", "text"} simulates a received message.
    """
    from leitwerk.standins.services import Gateway, MailServer

    gateway = Gateway(port=gateway_port, down_for=down_for, on_message=click.echo)
    gateway.start()
    click.echo(f"text messages at {gateway.address}")
    mail = None
    try:
        mail = MailServer(port=mail_port, down_for=down_for, on_message=click.echo)
        mail.start()
        click.echo(f"mails at {mail.address}")
    except ImportError:
        click.echo("no mail server: install it with pip install 'leitwerk[services]'", err=True)
    try:
        threading.Event().wait()
    except KeyboardInterrupt:
        click.echo("stopped")
    finally:
        gateway.stop()
        if mail is not None:
            mail.stop()
    return FINE
