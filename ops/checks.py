"""lint and test."""

import os
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import database
import install

GENERATED = install.ROOT / "web" / "src" / "api" / "schema.gen.ts"
COVERAGE = ["--cov=routrel", "--cov-report=", "--cov-fail-under=80"]
"""A figure is printed; below this share something is wrong with the run."""

EXAMPLES_FILE = install.ROOT / "server" / "questions" / "examples.json"
SCHEMA_FILE = install.ROOT / "docs" / "network-file.schema.json"


Step = tuple[str, list[str | Path], dict[str, str], Path]
"""A name, a command, what its environment has besides, and where it runs."""

WEB_TESTS: Step = ("the web client's tests", ["npm", "run", "--silent", "test"], {}, install.WEB)


def lint(*more: Step) -> int:
    """Formatting, types, import rules, generated files and ``more``, two at a time; returns 0 where all is well."""
    install.node_packages()
    install.node_packages(install.WEB / "codegen")
    tools = install.VENV / "bin"
    core = {"PYTHONPATH": f"{install.ROOT}/src"}
    server = {"PYTHONPATH": f"{install.ROOT}/src:{install.ROOT}/server"}
    steps: list[Step] = [
        ("ruff format", [tools / "ruff", "format", "--check", "-q", "."], {}, install.ROOT),
        ("ruff", [tools / "ruff", "check", "-q", "."], {}, install.ROOT),
        ("mypy, core", [tools / "mypy", "src", "bench"], core, install.ROOT),
        (
            "mypy, server",
            [tools / "mypy", "--config-file", "server/mypy.ini", "server"],
            {"ROUTREL_SECRET": "of no installation", **server},
            install.ROOT,
        ),
        ("import rules", [tools / "lint-imports", "--no-cache"], core, install.ROOT),
        ("biome", ["npm", "run", "--silent", "lint"], {}, install.WEB),
        ("tsc", ["npm", "run", "--silent", "check"], {}, install.WEB),
        *more,
    ]
    with ThreadPoolExecutor(2) as pool:
        stale = pool.submit(_stale_files, server)
        failed = [name for (name, *_), is_well in zip(steps, pool.map(_is_well, steps), strict=True) if not is_well]
        failed += stale.result()
    return 1 if failed else 0


def _is_well(step: Step) -> bool:
    name, command, env, cwd = step
    done = subprocess.run(
        [str(part) for part in command],
        cwd=cwd,
        env={**os.environ, **env},
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
    )
    said = done.stdout.decode(errors="replace") if done.returncode else ""
    print(f"lint: {name}: {'FAILED' if done.returncode else 'ok'}\n{said}", end="", flush=True)
    return done.returncode == 0


def generate() -> None:
    """Write the generated files anew: the API's types for the web client, the network file's schema."""
    install.python_packages("dev")
    install.node_packages(install.WEB / "codegen")
    server = {"PYTHONPATH": f"{install.ROOT}/src:{install.ROOT}/server"}
    for path, text in _generated(server).items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        print(path.relative_to(install.ROOT))


def _stale_files(env: dict[str, str]) -> list[str]:
    stale = []
    for path, text in _generated(env).items():
        fresh = path.is_file() and path.read_text() == text
        name = str(path.relative_to(install.ROOT))
        print(f"lint: {name}: {'ok' if fresh else 'FAILED: out of date, run ./routrel generate'}", flush=True)
        if not fresh:
            stale.append(name)
    return stale


def _generated(env: dict[str, str]) -> dict[Path, str]:
    # A schema is made of settings too, and signs nothing.
    whole = {"ROUTREL_SECRET": "of no installation", **os.environ, **env}
    with tempfile.TemporaryDirectory() as folder:
        schema, types = Path(folder) / "schema.yml", Path(folder) / "schema.ts"
        manage = [str(install.PYTHON), str(install.ROOT / "server" / "manage.py")]
        examples = _printed([*manage, "print_examples"], whole)
        subprocess.run(
            [*manage, "spectacular", "--file", str(schema), "--validate", "--fail-on-warn"], env=whole, check=True
        )
        program = install.WEB / "codegen" / "node_modules" / ".bin" / "openapi-typescript"
        subprocess.run([str(program), str(schema), "-o", str(types)], check=True, stdout=subprocess.DEVNULL)
        api = types.read_text()
    printed = _printed([str(install.PYTHON), "-m", "routrel", "schema"], whole)
    return {GENERATED: api, SCHEMA_FILE: printed, EXAMPLES_FILE: examples}


def _printed(command: list[str], env: dict[str, str]) -> str:
    return subprocess.run(command, env=env, check=True, capture_output=True, text=True).stdout


def test(arguments: list[str]) -> int:
    """Lint, the web client's own tests, then everything under tests/; pytest's closing line comes last.

    ``--quick`` leaves out lint and the web client, and nine of ten random examples.
    """
    install.python_packages("dev")
    install.browser()
    install.filter_tools()
    install.web_build()
    is_quick = "--quick" in arguments
    arguments = [one for one in arguments if one != "--quick"]
    environment = {**database.environment(), "ROUTREL_SOLVED": "", **({"ROUTREL_QUICK": "1"} if is_quick else {})}
    failed = 0
    if not arguments and not is_quick:
        failed = lint(WEB_TESTS)
    whole = ["-n", "2", "--dist", "loadfile"] + ([] if is_quick else COVERAGE)
    pytest = [install.PYTHON, "-m", "pytest", *(arguments or whole)]
    status = install.call(pytest, env=environment)
    if failed:
        print("lint or the web client's tests failed: see above", file=sys.stderr)
    return status or failed
