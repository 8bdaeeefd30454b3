"""``python -m leitwerk`` is the command-line tool."""

from leitwerk.cli import main

if __name__ == "__main__":
    main(prog_name="leitwerk")
