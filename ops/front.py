"""The commands of ./routrel that need more than the core: demo, serve, test, lint, bench.

Runs on the system's Python with its standard library alone, since it is what installs the rest.
"""

import argparse
import sys
from pathlib import Path

import checks
import database
import install
import serving

USAGE = """routrel COMMAND

  demo                    install what is missing, load the demo network, serve, print the address
  serve [--port N]        the same without the demo network
  worker                  one more worker, which does jobs: stress and the like
  test [PYTEST ARGUMENTS] install what is missing, run lint and every test
  test --quick            the tests with a tenth of the random examples, without lint
  lint                    formatting, types, import rules, generated files
  bench [--quick]         the benchmarks, as ratios in one run
  generate                write the generated files anew (API types, network file schema)
  user NAME [--remove]    add a user, or give one a new password; or take one out
  token NAME [--days N]   a token by which scripts act for a user, printed once
  backup FILE             write all that is stored into a file
  restore FILE            put a backup in place of what is stored; stop the server first
  stop                    stop the project's own database

  routes | walk | why | policy | check | maintain | history | table | find | diff | try | lead | models
                                       NETWORK ...
  collect INVENTORY FOLDER             ask devices for what they know; stand-ins play some
                                       the command line: see routrel walk --help
  listen FOLDER                        hear by BMP what routers' neighbors say
  speak NETWORK                        say by BMP what a network's routers hear
  schema                               the JSON Schema of the network file
  completion bash | zsh                what completes the command line in a shell
"""


def main() -> int:
    if len(sys.argv) < 2 or sys.argv[1] in ("-h", "--help", "help"):
        print(USAGE)
        return 0 if len(sys.argv) > 1 else 2
    command, rest = sys.argv[1], sys.argv[2:]
    try:
        return run(command, rest)
    except install.MissingError as error:
        print(f"routrel: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        return 130


def run(command: str, rest: list[str]) -> int:
    if command in ("demo", "serve"):
        parser = argparse.ArgumentParser(prog=f"routrel {command}")
        parser.add_argument("--port", type=int, default=0, help="default: 8000, or the next free one")
        parser.add_argument(
            "--workers", type=int, default=1, help="workers that do jobs, started beside it (default 1)"
        )
        asked = parser.parse_args(rest)
        return serving.serve(command == "demo", asked.port, max(0, asked.workers))
    if command == "worker" and not rest:
        return serving.work()
    if command == "test":
        return checks.test(rest)
    if command == "lint":
        install.python_packages("dev")
        return checks.lint()
    if command == "bench":
        install.python_packages("dev")
        return install.call([install.PYTHON, "-m", "bench", *rest], env={"PYTHONPATH": f"{install.ROOT}/src"})
    if command == "generate":
        checks.generate()
        return 0
    if command == "user" and rest:
        parser = argparse.ArgumentParser(prog="routrel user")
        parser.add_argument("name")
        parser.add_argument("--remove", action="store_true", help="take the user out, with tokens and memberships")
        asked = parser.parse_args(rest)
        return serving.manage("remove_user" if asked.remove else "add_user", asked.name)
    if command == "token" and rest:
        parser = argparse.ArgumentParser(prog="routrel token")
        parser.add_argument("name", help="the user that scripts act for")
        parser.add_argument("--label", default="command line", help="what the token is for")
        parser.add_argument("--days", type=int, default=365, help="how long it holds (default 365)")
        asked = parser.parse_args(rest)
        return serving.manage("make_token", asked.name, "--label", asked.label, "--days", str(asked.days))
    if command == "backup" and len(rest) == 1:
        database.backup(Path(rest[0]).absolute())
        return 0
    if command == "restore" and len(rest) == 1:
        serving.manage("create_database")
        database.restore(Path(rest[0]).absolute())
        return serving.manage("migrate", "--verbosity=0", "--skip-checks")
    if command == "stop":
        return serving.stop()
    if command == "install-run":
        install.python_packages("run")
        return 0
    print(f"routrel: there is no command {command!r}\n\n{USAGE}", file=sys.stderr)
    return 2


if __name__ == "__main__":
    sys.exit(main())
