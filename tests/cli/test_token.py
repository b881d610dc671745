"""`jamb token get`: an access token, alone on standard output, from a connection sheet or options."""

from __future__ import annotations

import json
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import jwt

from jamb.client import PrivateKey, TokenFile, sign_in_by_device
from tests.cli.run import Shell
from tests.service.entry.roster import made as registered
from tests.service.entry.roster import somebody
from tests.world import BERTHS, World


def test_a_token_is_fetched_alone_by_secret_or_key_and_what_is_missing_is_said(world: World, tmp_path: Path) -> None:
    made, shell = world.client(granted=["berths.view"]), Shell(world, tmp_path)
    with world.jamb() as steward:
        (sheet,) = steward.clients.sheets(made.id)
    file = tmp_path / "client.env"
    # As it was saved when the secret was shown, once for each resource.
    text = sheet.forms["env"].replace("'(shown once, when it was issued)'", made.secret)
    file.write_text(f"{text}\n\n{text}\n")
    got = shell("token", "get", "--sheet", str(file))
    assert got.code == 0, got.err
    assert got.out.count("\n") == 1
    claims = jwt.decode(got.out.strip(), options={"verify_signature": False})
    assert (claims["aud"], claims["scope"], claims["client_id"]) == (BERTHS, "berths.view", made.id)
    assert world.call_berths(got.out.strip()).status_code == 200
    issuer = f"{world.base_url}/d/quillhaven"
    options = ["--issuer", issuer, "--client", made.id, "--resource", BERTHS]
    by_file = shell("token", "get", *options, "--secret-file", "-", stdin=f"{made.secret}\n")
    assert by_file.code == 0, by_file.err
    key, place = PrivateKey.make(), tmp_path / "client.pem"
    place.write_bytes(key.pem())
    with world.jamb(None) as owner:
        owner.credentials.add_keys(made.id, {"keys": [key.public()]})
    by_key = shell("token", "get", *options, "--key-file", str(place))
    assert by_key.code == 0, by_key.err
    for words, said in (
        (["--client", made.id], "--issuer"),
        (options, "--secret-file"),
        ([*options, "--secret-file", str(tmp_path / "none")], "none"),
    ):
        refused = shell("token", "get", *words)
        assert (refused.code, said in refused.err, refused.out) == (2, True, ""), refused.err
    wrong = shell("token", "get", *options, "--secret-file", "-", stdin="not this\n")
    assert (wrong.code, wrong.out) == (3, "")


def test_a_token_bound_to_a_key_opens_with_a_proof_for_each_request_alone(world: World, tmp_path: Path) -> None:
    made, shell = world.client(granted=["berths.view"]), Shell(world, tmp_path)
    key, token = tmp_path / "bound.pem", tmp_path / "token"
    options = ["--issuer", f"{world.base_url}/d/quillhaven", "--client", made.id, "--resource", BERTHS]
    got = shell("token", "get", *options, "--secret-file", "-", "--bound-to", str(key), stdin=made.secret)
    assert got.code == 0, got.err
    assert (key.stat().st_mode & 0o777, str(key) in got.err) == (0o600, True)
    token.write_text(got.out)
    berths = f"{world.berths_url}/berths"

    def proof(*words: str) -> dict[str, str]:
        printed = shell("token", "proof", *words, "--bound-to", str(key), "--token", str(token))
        assert printed.code == 0, printed.err
        return dict(line.split(": ", 1) for line in printed.out.splitlines())

    headers = proof("get", f"{berths}?at=north")
    assert httpx.get(berths, headers=headers).status_code == 200
    # Once, for this method and address; and never without one.
    for spent in (
        headers,
        proof("POST", berths),
        proof("GET", f"{berths}/other"),
        {"Authorization": headers["Authorization"]},
    ):
        assert httpx.get(berths, headers=spent).status_code == 401
    assert world.call_berths(got.out.strip()).status_code == 401
    asked = jwt.decode(proof("GET", berths, "--nonce", "n-1")["DPoP"], options={"verify_signature": False})
    assert asked["nonce"] == "n-1"
    again = shell("token", "get", *options, "--secret-file", "-", "--bound-to", str(key), stdin=made.secret)
    claims = [jwt.decode(text.strip(), options={"verify_signature": False}) for text in (got.out, again.out)]
    assert claims[0]["cnf"] == claims[1]["cnf"]
    for words, said in (
        (["GET", "/berths"], "ADDRESS"),
        (["GET", "https://[::1/berths"], "ADDRESS"),
    ):
        refused = shell("token", "proof", *words, "--bound-to", str(key), "--token", str(token))
        assert (refused.code, said in refused.err, refused.out) == (2, True, ""), refused.err
    lacking = shell("token", "proof", "GET", berths, "--bound-to", str(tmp_path / "none"), "--token", str(token))
    assert (lacking.code, "--bound-to" in lacking.err) == (2, True), lacking.err


def test_a_sign_in_that_is_kept_is_renewed_once_by_all_who_use_it(world: World, tmp_path: Path) -> None:
    file, shell = tmp_path / "kept.json", Shell(world, tmp_path, cold=True)
    device = registered(world, "device", [], ["berths.view"])

    def shown(_address: str, code: str) -> None:
        with somebody(world) as http:
            body = {"user_code": code, "approve": True, "permissions": []}
            http.post("/api/v1/devices/decision", json=body).raise_for_status()

    scope = "offline_access berths.view"
    first = sign_in_by_device(device.issuer, device.id, scope, show=shown, kept=TokenFile(file)).access_token
    options = ["--issuer", device.issuer, "--client", device.id, "--scope", scope, "--kept", str(file)]
    again = shell("token", "get", "--as", "device", *options)
    assert (again.code, again.out.strip(), again.err) == (0, first, ""), again.err
    file.write_text(json.dumps({**json.loads(file.read_text()), "expires_at": time.time() - 1}))
    with ThreadPoolExecutor(4) as pool:
        ran = list(pool.map(lambda _: shell("token", "get", "--as", "device", *options), range(4)))
    assert {one.code for one in ran} == {0}, [one.err for one in ran]
    (fresh,) = {one.out.strip() for one in ran}
    assert fresh != first
    assert world.call_berths(fresh).status_code == 200
    with world.database() as database:
        of = "select count(*) from refresh_token join person_authorization on id = authorization_id"
        assert database.execute(f"{of} where client_id = %s", [device.id]).fetchone() == (2,), "renewed once"
    file.chmod(0o644)
    for words, said in ((["--as", "device"], "--kept: sent"), ([], "--as browser")):
        refused = shell("token", "get", *words, *options)
        assert (refused.code, said in refused.err, refused.out) == (2, True, ""), refused.err
