"""A streaming standby of a cluster, on loopback: made, promoted."""

from __future__ import annotations

import shutil
from dataclasses import dataclass

import psycopg

from jamb.demo.cluster import Cluster, make_home, write_private


@dataclass
class Standby(Cluster):
    """A cluster that follows another, by streaming replication, until it is promoted."""

    primary: Cluster | None = None

    def _create(self) -> None:
        assert self.primary is not None
        make_home(self.home)
        shutil.rmtree(self.data, ignore_errors=True)
        self.data.mkdir(mode=0o700)
        self._hand_over(self.data)
        write_private(self.home / "database-password", self.primary._password())
        self._as_server(
            "pg_basebackup",
            "-d",
            self.primary.url,
            "-D",
            str(self.data),
            "-R",
            "-X",
            "stream",
            "--no-sync",
            "-c",
            "fast",
        )

    def promote(self) -> None:
        self._as_server("pg_ctl", "-D", str(self.data), "-w", "promote")


def wait_for_it(primary: Cluster) -> None:
    """From now on a change is acknowledged when the standby has it too."""
    with psycopg.connect(primary.url, autocommit=True) as database:
        database.execute("alter system set synchronous_standby_names = '*'")
        database.execute("select pg_reload_conf()")


def spellings(primary: Cluster, standby: Cluster, database: str) -> dict[str, str]:
    """Return the usual ways to name both servers."""
    password = primary._password()
    hosts, ports = "127.0.0.1,127.0.0.1", f"{primary.port},{standby.port}"
    both = f"127.0.0.1:{primary.port},127.0.0.1:{standby.port}"
    return {
        "an address that says which": (
            f"postgresql://jamb:{password}@{both}/{database}?target_session_attrs=read-write"
        ),
        "an address that does not say which": f"postgresql://jamb:{password}@{both}/{database}",
        "hosts and ports as parameters": (
            f"postgresql:///{database}?host={hosts}&port={ports}&user=jamb&password={password}"
        ),
        "names and values": (
            f"host={hosts} port={ports} dbname={database} user=jamb password={password} target_session_attrs=primary"
        ),
    }
