"""The set-up scripts on machines that lack something: one clear line each."""

from __future__ import annotations

import gzip
import os
import shutil
import signal
import subprocess
from pathlib import Path

import pytest
from tests.waiting import until

PROJECT = Path(__file__).resolve().parents[1]
BASICS = (
    "bash",
    "dirname",
    "id",
    "cat",
    "find",
    "sort",
    "xargs",
    "sha256sum",
    "cut",
    "mkdir",
    "mktemp",
    "sleep",
    "rm",
    "tail",
    "env",
    "grep",
)


@pytest.fixture
def poor_machine(tmp_path: Path) -> Path:
    """A search path that holds only the basics; tests add what they need."""
    folder = tmp_path / "bin"
    folder.mkdir()
    for name in BASICS:
        (folder / name).symlink_to(shutil.which(name))
    return folder


def add(folder: Path, name: str, script: str) -> None:
    path = folder / name
    path.write_text(f"#!/bin/bash\n{script}\n")
    path.chmod(0o755)


def run(folder: Path, call: str) -> subprocess.CompletedProcess[str]:
    command = f"set -euo pipefail; source {PROJECT}/scripts/setup.sh; {call}"
    return subprocess.run(
        [str(folder / "bash"), "-c", command],
        capture_output=True,
        text=True,
        cwd=PROJECT,
        env={"PATH": str(folder)},
        check=False,
    )


def refusal(done: subprocess.CompletedProcess[str]) -> str:
    assert done.returncode == 1
    assert done.stderr.count("\n") == 1, done.stderr
    return done.stderr


def test_help_needs_nothing_installed(poor_machine: Path):
    done = subprocess.run(
        [str(poor_machine / "bash"), str(PROJECT / "scripts/demo"), "--help"],
        capture_output=True,
        text=True,
        env={"PATH": str(poor_machine)},
        check=True,
    )
    assert "--port PORT" in done.stdout
    assert "--reset" in done.stdout


def test_no_node_and_too_old_a_node(poor_machine: Path):
    assert "Node 20.19 or newer is needed and was not found" in refusal(run(poor_machine, "need_node"))
    add(poor_machine, "npm", "true")
    add(poor_machine, "node", 'if [ "$1" = --version ]; then echo v18.20.4; else exit 1; fi')
    assert "Node 20.19 or newer is needed; this one is v18.20.4" in refusal(run(poor_machine, "need_node"))


def test_no_python_of_the_right_version(poor_machine: Path):
    add(poor_machine, "python3", "exit 1")
    assert "Python 3.11 is needed" in refusal(run(poor_machine, "find_python"))


def test_neither_root_nor_sudo(poor_machine: Path):
    (poor_machine / "id").unlink()
    add(poor_machine, "id", "echo 1000")
    said = refusal(run(poor_machine, "need_packages no-such-program:some-package"))
    assert "some-package must be installed, which takes root or sudo" in said


def test_no_network_for_debian_packages(poor_machine: Path):
    add(poor_machine, "sudo", '"$@"')
    add(poor_machine, "apt-get", "echo cannot resolve; exit 100")
    said = refusal(run(poor_machine, "need_packages no-such-program:some-package"))
    assert "apt-get could not install some-package: is there a network?" in said


def test_what_is_there_is_not_installed_again(poor_machine: Path):
    add(poor_machine, "apt-get", "echo called >&2; exit 1")
    done = run(poor_machine, "need_packages bash:bash cat:coreutils '/usr/lib/*/libc.so.6:libc6'")
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")


def test_the_first_page_loads_little_script():
    """Under 300 kB gzipped: what index.html asks for; charts come with the first Dossier."""
    dist = PROJECT / "ui/dist"
    page = (dist / "index.html").read_text()
    scripts = [path for path in (dist / "assets").glob("*.js") if path.name in page]
    assert scripts
    assert sum(len(gzip.compress(path.read_bytes())) for path in scripts) < 300_000


def test_the_locks_name_exact_versions_with_hashes_and_no_host():
    for name, least in (("requirements.lock", 30), ("requirements-dev.lock", 30), ("requirements-uv.lock", 1)):
        text = (PROJECT / name).read_text()
        packages = [line for line in text.splitlines() if line and line[0].isalpha()]
        assert len(packages) >= least
        assert all("==" in line for line in packages)
        assert text.count("--hash=sha256:") >= len(packages)
        assert "http" not in text
    assert '"resolved"' not in (PROJECT / "ui/package-lock.json").read_text()


def test_ci_runs_the_tests():
    assert "scripts/test" in (PROJECT / ".ci/run").read_text()
    for script in ("scripts/demo", "scripts/test", "scripts/update-api", ".ci/run"):
        assert os.access(PROJECT / script, os.X_OK)


def test_steps_side_by_side_all_happen_and_one_that_stops_stops_all(poor_machine: Path, tmp_path: Path):
    done = run(poor_machine, f'together "mktemp {tmp_path}/one.XXXX" "mktemp {tmp_path}/two.XXXX" && say both')
    assert done.returncode == 0, done.stderr
    assert "both" in done.stdout
    assert len(list(tmp_path.glob("one.*"))) == len(list(tmp_path.glob("two.*"))) == 1
    add(poor_machine, "slow", "exec /bin/sleep 60")
    began = os.times().elapsed
    failed = run(poor_machine, 'together "stop no-room" slow && say both')
    assert failed.returncode == 1
    assert "both" not in failed.stdout
    assert refusal(failed).startswith("Flinch cannot start: no-room")
    assert os.times().elapsed - began < 50, "the other one was stopped"


def test_who_stops_an_installation_stops_all_that_it_started(poor_machine: Path, tmp_path: Path):
    """Ctrl-C goes to the script; what its steps started ignores it, as what runs in the background does."""
    told = tmp_path / "children"
    add(poor_machine, "npm", f"trap '' INT; echo $$ >>{told}; exec {shutil.which('sleep')} 1000")
    step = "step() { npm; }; other() { npm; }"
    script = f"set -euo pipefail; source {PROJECT}/scripts/setup.sh; {step}; together step other; echo never"
    running = subprocess.Popen(
        [str(poor_machine / "bash"), "-c", script],
        stdout=subprocess.PIPE,
        cwd=tmp_path,
        env={"PATH": str(poor_machine)},
    )
    until(lambda: told.exists() and len(told.read_text().split()) == 2)
    children = [int(pid) for pid in told.read_text().split()]
    running.send_signal(signal.SIGINT)
    assert running.wait() == 130
    assert running.stdout is not None
    assert running.stdout.read() == b""
    for pid in children:
        until(lambda pid=pid: ended(pid), "the end of what a step had started")


def test_what_is_built_beside_ends_with_who_wanted_it(poor_machine: Path, tmp_path: Path):
    told = tmp_path / "child"
    add(poor_machine, "npm", f"trap '' INT; echo $$ >{told}; exec {shutil.which('sleep')} 1000")
    (poor_machine / "demo").symlink_to(shutil.which("sleep"))
    script = f"source {PROJECT}/scripts/setup.sh; work() {{ npm; }}; exec 4< <(beside work); exec demo 1000"
    running = subprocess.Popen(
        [str(poor_machine / "bash"), "-c", script], cwd=tmp_path, env={"PATH": str(poor_machine)}
    )
    until(lambda: told.exists() and told.read_text().strip())
    running.send_signal(signal.SIGINT)
    running.wait()
    until(lambda: ended(int(told.read_text())), "the end of what was being built")


def test_what_is_built_beside_says_when_it_is_through(poor_machine: Path):
    done = run(poor_machine, "work() { true; }; exec 4< <(beside work); cat <&4")
    assert (done.stdout, done.returncode) == ("built\n", 0)
    failed = run(poor_machine, "work() { false; }; exec 4< <(beside work); cat <&4")
    assert failed.stdout == ""


def ended(pid: int) -> bool:
    try:
        return not Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return True
