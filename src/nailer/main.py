"""`nailer`: the server's commands where the server is installed, and the command line for everybody."""

from __future__ import annotations

import sys

_OF_THE_SERVER = ("serve", "demo", "accounts")


def main() -> int:
    """Run a command; return its exit status."""
    if sys.argv[1:2] and sys.argv[1] in _OF_THE_SERVER:
        try:
            from nailer import cli
        except ModuleNotFoundError as error:
            sys.stderr.write(f"The server is not installed here ({error.name} is missing). Install nailer[server].\n")
            return 1
        return cli.main()
    from nailer.command.main import main as command

    return command()


if __name__ == "__main__":
    sys.exit(main())
