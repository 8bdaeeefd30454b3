"""``python -m leitwerk`` is the command-line tool."""

from leitwerk.cli import run

if __name__ == "__main__":
    run()
