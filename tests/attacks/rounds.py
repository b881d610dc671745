"""One bad row, one slow receiver: what the service does by itself goes on for everybody else."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, HTTPServer
from threading import Thread
from typing import Any
from uuid import UUID, uuid4

from pydantic import SecretStr

from jamb.service.config.settings import Settings
from jamb.service.runtime import Runtime, open_runtime
from jamb.service.work.queue import carry_all
from tests import patient
from tests.attacks.scene import Attack, Scene
from tests.attacks.wire import endless
from tests.own_loop import in_own_loop
from tests.world import World, unique


def in_a_runtime(world: World, work: Callable[[Runtime], Any], **settings: Any) -> Any:
    """Work as a further process of the service would."""
    made = Settings(
        home=world.home,
        port=world.port,
        database_url=SecretStr(world.cluster.url),
        inner_hosts="127.0.0.1",
        smtp_url=SecretStr(f"smtp://127.0.0.1:{world.port + 3}"),
        **settings,
    )

    async def run() -> Any:
        async with open_runtime(made) as runtime:
            return await work(runtime)

    return in_own_loop(run())


@contextmanager
def takes_events() -> Iterator[tuple[str, list[bytes]]]:
    taken: list[bytes] = []

    class Take(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            taken.append(self.rfile.read(int(self.headers["Content-Length"])))
            self.send_response(202)
            self.end_headers()

        def log_message(self, *_: object) -> None: ...

    with HTTPServer(("127.0.0.1", 0), Take) as server:
        Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{server.server_port}/events", taken
        server.shutdown()


def mails(scene: Scene) -> None:
    """A login of before logins were judged, that cannot be written in a mail; and behind it somebody else's mail."""
    words, bad = unique("mail for somebody else"), uuid4()
    with scene.world.database() as database:
        directory, good = database.execute("select directory_id, id from person where login like 'hanneke%'").fetchone()
        database.execute(
            "insert into person (id, directory_id, login, name, active, created_at) values (%s, %s, %s, 'Bad', true, now())",
            [bad, directory, f"ü\x85{uuid4().hex[:6]}@quillhaven.example"],
        )
        for person, minutes in ((bad, 9), (good, 5)):
            mail = uuid4()
            database.execute(
                "insert into mail (id, directory_id, person_id, made_at, next_at, tries, error, failed) values "
                "(%s, %s, %s, now(), now() - make_interval(mins => %s), 0, '', '')",
                [mail, directory, person, minutes],
            )
            database.execute(
                "insert into notice (id, directory_id, person_id, key, kind, client_id, words, path, urgent, at, mail_id) "
                "values (%s, %s, %s, %s, 'expired-credential-tried', 'x', %s, '/x', true, now(), %s)",
                [uuid4(), directory, person, unique("key"), words, mail],
            )
    try:
        in_a_runtime(scene.world, carry_all)
        found = patient.get(f"http://127.0.0.1:{scene.world.port + 1}/mailbox/mails").json()
        assert [one for one in found if words in one["text"]], "the mail behind it came"
        assert scene.count("mail", "person_id = %s and tries = 1 and error <> ''", bad) == 1, (
            "put aside, with its error"
        )
        assert scene.count("mail", "person_id = %s and next_at > now()", bad) == 1, "and tried again later"
    finally:
        with scene.world.database() as database:
            database.execute("delete from notice where person_id = %s", [bad])
            database.execute("delete from mail where person_id = %s", [bad])
            database.execute("delete from person where id = %s", [bad])


def webhooks(scene: Scene) -> None:
    """A webhook that answers a byte at a time, one at an address that cannot be, and one that takes its events."""
    with endless(0.3) as (slow, _), takes_events() as (quick, taken), scene.world.database() as database:
        directory = database.execute("select id from directory where slug = 'quillhaven'").fetchone()[0]
        hooks: dict[str, UUID] = {}
        for url in (slow, "https://x:99999/", "https://[::1/", quick):
            hooks[url] = uuid4()
            database.execute(
                "insert into webhook (id, directory_id, url, made_at, made_by) values (%s, %s, %s, now(), 'x')",
                [hooks[url], directory, url],
            )
            for number in range(5):
                database.execute(
                    "insert into push (id, webhook_id, key, event, made_at, next_at, tries, error, failed) values "
                    '(%s, %s, %s, \'{"kind": "ends-soon", "client_id": "x"}\', now(), now(), 0, \'\', \'\')',
                    [uuid4(), hooks[url], f"event {number}"],
                )
        try:
            started = time.monotonic()
            in_a_runtime(scene.world, carry_all, push_seconds=1)
            assert time.monotonic() - started < 12
            assert len(taken) == 5, "each once"
            for url, hook in hooks.items():
                failed = 0 if url == quick else 1
                put_aside = scene.count("push", "webhook_id = %s and tries = 1 and error <> ''", hook)
                assert put_aside == failed, f"{url}: put aside, with its error"
        finally:
            for one in hooks.values():
                database.execute("delete from webhook where id = %s", [one])


ROWS = [
    Attack("a login that no mail can be written to", "RFC 5321 4.1.2, RFC 6532", "put aside by itself", mails),
    Attack(
        "a webhook that never ends its answer, and addresses that cannot be",
        "RFC 8935 2.2",
        "given up by itself",
        webhooks,
    ),
]
