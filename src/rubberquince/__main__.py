"""``python -m rubberquince``: the command line when asked for one, else the window."""

import sys

from rubberquince import cli

COMMANDS = {"bake", "export", "info", "demo", "--help", "--version"}


def main() -> int:
    if len(sys.argv) > 1 and sys.argv[1] in COMMANDS:
        cli.main()
        return 0
    from rubberquince import app    # noqa: PLC0415 - the command line must run where Qt cannot start
    return app.main(sys.argv[1:])


if __name__ == "__main__":
    sys.exit(main())
