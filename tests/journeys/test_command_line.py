"""The same errand at the command line, signing in with a browser's yes, and with the sheet's own lines."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from pathlib import Path

from tests import patient
from tests.cli.run import JAMB, Shell
from tests.world import World, unique


def test_a_job_reads_berths_as_itself(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path, cold=True)
    registrar = sign_in(shell, world, "registrar")
    assert "Maren Oduya" in registrar("whoami").out
    refused = shell.signed_in("lotte")("clients", "register", "--name", "x", "--purpose", "y")
    assert refused.code == 3
    assert re.search(r"Ask [^.]*Maren Oduya", refused.err), "whom to ask is said first"

    name = unique("Quay lights")
    owner = world.person(None)["login"]
    told = registrar("clients", "register", "--name", name, "--purpose", "Dims lights", "--owner", owner)
    assert told.code == 0
    client_id = re.search(r"client id\s+(\S+)", told.out)[1]  # type: ignore[index]
    assert "Next step" in told.out

    catalogue = registrar("resources", "show", "berths").out
    assert "GET /berths" in catalogue
    assert registrar("asks", "add", name, "berths", "berths.view", "--reason", "Lights follow ships").code == 0
    issued = registrar("secrets", "issue", name, "--days", "30", "--output", "json").json()
    (sheet,) = issued["sheets"]

    # The sheet's curl line and Python lines, as an integrator would paste them.
    environment = {"PATH": os.environ["PATH"], "CLIENT_SECRET": issued["secret"]}
    before = subprocess.run(
        ["bash", "-c", sheet["forms"]["curl"]], env=environment, capture_output=True, text=True, check=False
    )
    assert json.loads(before.stdout)["error"] == "invalid_scope"
    explained = registrar("explain", client_id, "berths.list", "--resource", "berths")
    assert "refused" in explained.out
    remedy = re.search(r"jamb (consent grant \S+ --only \S+)", explained.out)
    assert remedy is not None, "the remedy is a command line"

    approver = shell.signed_in("approver")
    assert "List berths" in approver("consent", "preview", name).out
    granted = approver(*remedy[1].split(), "--yes")
    assert "Granted: berths.view" in granted.out

    after = subprocess.run(
        ["bash", "-c", sheet["forms"]["curl"]], env=environment, capture_output=True, text=True, check=True
    )
    token = json.loads(after.stdout)["access_token"]
    page = world.call_berths(token)
    assert page.status_code == 200
    assert 'rel="next"' in page.headers["Link"]
    script = sheet["forms"]["python"] + "\nprint(token.count('.'))"
    ran = subprocess.run([sys.executable, "-c", script], env=environment, capture_output=True, text=True, check=True)
    assert ran.stdout.strip() == "2"
    module = sheet["forms"]["javascript"] + "\nconsole.log(token.split('.').length);"
    command = ["node", "--input-type=module", "--eval", module]
    ran = subprocess.run(command, env=environment, capture_output=True, text=True, check=True)
    assert ran.stdout.strip() == "3"
    head, _, body = sheet["forms"]["http"].partition("\n\n")
    assert issued["secret"] not in head + body
    sent = dict(line.split(": ", 1) for line in head.splitlines()[1:])
    filled = body.replace("{CLIENT_SECRET}", issued["secret"])
    assert patient.post(world.token_endpoint(), content=filled, headers=sent).status_code == 200

    assert "allowed" in approver("explain", client_id, "berths.list", "--resource", "berths").out
    auditor = shell.signed_in("auditor")
    assert auditor("audit", "--fail-on", "high").code == 1
    ledger = auditor("ledger", "list", "--client", name, "-o", "json").json()
    assert [one["action"] for one in ledger] == [
        "consent.granted",
        "secret.issued",
        "permission.asked",
        "client.registered",
    ]
    assert "all in place" in auditor("ledger", "verify").out
    assert registrar("sign-out").code == 0
    assert registrar("whoami").code == 3


def sign_in(shell: Shell, world: World, role: str) -> Shell:
    """Run `jamb sign-in` for real: read the code it shows, approve it at the console, and wait for it."""
    process = subprocess.Popen(
        [str(JAMB), "sign-in"], env=shell.environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert process.stderr is not None
    code = ""
    for line in process.stderr:
        if line.startswith("Code"):
            code = line.split()[1]
            break
    with world.session(role) as http:
        answer = http.post("/api/v1/devices/decision", json={"user_code": code, "approve": True})
        assert answer.status_code == 204
    out, err = process.communicate(timeout=60)
    assert process.returncode == 0, err
    assert "Signed in to quillhaven" in out
    kept = Path(shell.environment["HOME"]) / ".config/jamb/sign-in.json"
    assert kept.stat().st_mode & 0o777 == 0o600
    return shell
