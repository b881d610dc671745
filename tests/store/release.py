"""`python -m tests.store.release VERSION`: keep the schema of a release, with a little data, as upgrades find it later."""

from __future__ import annotations

import base64
import gzip
import json
import re
import subprocess
import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import httpx

from jamb import __version__
from jamb.demo.cluster import Cluster, server_programs
from tests.operating import HERE, PASSWORD, Operator, client_in, opened, steward_of, token
from tests.world import ROOT, choose_password

RELEASES = Path(__file__).parent / "releases"
PORT = 8790
PUBLIC_URL = f"http://127.0.0.1:{PORT}"
# It seals what is made up here, and nothing else.
SEALING_KEY = base64.b64encode(b"of the kept releases, no secret!").decode()


def main() -> None:
    assert sys.argv[1:] == [__version__], f"this is {__version__}"
    RELEASES.mkdir(exist_ok=True)
    (ROOT / ".jamb-test").mkdir(exist_ok=True)
    with TemporaryDirectory(dir=ROOT / ".jamb-test") as folder:
        cluster = Cluster(Path(folder) / "records", PORT + 2)
        cluster.start()
        try:
            form = _little(Operator(Path(folder) / "home", PORT, cluster.url))
            dump = subprocess.run(
                [server_programs() / "pg_dump", "--no-owner", "--no-privileges", cluster.url],
                capture_output=True,
                text=True,
                check=True,
            ).stdout
        finally:
            cluster.stop(mode="immediate")
    # What a newer server's dump says to its own reader alone.
    text = re.sub(r"^(\\(un)?restrict .*|SET transaction_timeout.*)\n", "", dump, flags=re.MULTILINE)
    (RELEASES / f"{__version__}.sql.gz").write_bytes(gzip.compress(text.encode(), mtime=0))
    (RELEASES / f"{__version__}.json").write_text(json.dumps({"public_url": PUBLIC_URL, "form": form}, indent=2) + "\n")


def _little(operator: Operator) -> dict[str, str]:
    """Do what each room has something of; return what a client asks tokens with."""
    operator.settings = {"JAMB_SEALING_KEY": SEALING_KEY}
    link = opened(operator)
    with operator.serving() as base:
        choose_password(link, PASSWORD)
        with steward_of(base) as console:
            form = client_in(console, ["revocations.read", "usage.report"])
            tom = {"login": "tom@alder.example", "name": "Tom Alder", "roles": ["registrar"]}
            console.post(f"{HERE}/people", json=tom).raise_for_status()
            group = {"title": "Crew", "people": ["tom@alder.example"], "groups": []}
            console.put(f"{HERE}/groups/crew", json=group).raise_for_status()
            trial = {"name": "Old gauge", "purpose": "Was tried", "owners": ["tom@alder.example"]}
            made = console.post(f"{HERE}/clients", json=trial).raise_for_status().json()
            console.post(f"{HERE}/clients/{made['id']}/secrets", json={"days": 20}).raise_for_status()
            console.get(f"{HERE}/audit/findings").raise_for_status()
            token(base, form)
            refused = httpx.post(f"{base}/d/alder/token", data={**form, "client_secret": "wrong"}, timeout=60)
            assert refused.status_code == 401
    return form


if __name__ == "__main__":
    main()
