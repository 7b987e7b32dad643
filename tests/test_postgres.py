"""A real PostgreSQL: listed, exported with a password, stopped, its data deleted, set up again, restored, the rows compared."""

from __future__ import annotations

import base64
import glob
import os
import pwd
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import quote

import pytest

from support import IS_ROOT, Kleff, procedure

PROGRAMS = sorted(glob.glob("/usr/lib/postgresql/*/bin"))
pytestmark = [
    pytest.mark.skipif(not IS_ROOT, reason="needs root: the server runs as an account of its own"),
    pytest.mark.skipif(not PROGRAMS, reason="needs the Debian package postgresql"),
]
BIN = PROGRAMS[-1] if PROGRAMS else ""
PLACE = Path("/var/lib/brindlewort-beds")
SECRET = "Plum & fern/7äé"


class Server:
    """A server of its own, in a folder of its own, on a free port."""

    def __init__(self, port: int) -> None:
        self.port = port
        self.account = pwd.getpwnam("postgres")

    def as_account(self, *words: str, stdin: str = "") -> str:
        own = {"user": self.account.pw_uid, "group": self.account.pw_gid, "extra_groups": []}
        environment = {"PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8", "PGPASSWORD": SECRET}
        done = subprocess.run(words, input=stdin, capture_output=True, text=True, cwd="/", env=environment, timeout=90, **own)  # type: ignore[call-overload]
        assert done.returncode == 0, f"{words}: {done.stdout}{done.stderr}"
        return str(done.stdout)

    def set_up(self) -> None:
        """As the product's own setup would: an empty server with its account."""
        PLACE.mkdir(mode=0o755, exist_ok=True)
        os.chown(PLACE, 0, 0)
        data = PLACE / "data"
        data.mkdir(mode=0o700)
        os.chown(data, self.account.pw_uid, self.account.pw_gid)
        password = PLACE / "password"
        password.write_text(SECRET + "\n")
        os.chown(password, self.account.pw_uid, self.account.pw_gid)
        options = ("--auth=scram-sha-256", "-U", "beds", f"--pwfile={password}", "--no-sync", "-E", "UTF8")
        self.as_account(f"{BIN}/initdb", "-D", str(data), *options)
        password.unlink()
        settings = f"-p {self.port} -k {data} -c listen_addresses=127.0.0.1 -c fsync=off"
        self.as_account(f"{BIN}/pg_ctl", "-D", str(data), "-w", "-l", str(data / "log"), "-o", settings, "start")

    def sql(self, text: str, database: str = "postgres") -> str:
        words = ("-h", "127.0.0.1", "-p", str(self.port), "-U", "beds", "-d", database, "-At", "-v", "ON_ERROR_STOP=1")
        return self.as_account(f"{BIN}/psql", *words, stdin=text)


@pytest.fixture
def server(this_machine: None) -> Iterator[Server]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    shutil.rmtree(PLACE, ignore_errors=True)
    server = Server(port)
    server.set_up()
    try:
        yield server
    finally:
        subprocess.run(["pkill", "-9", "-f", f"{BIN}/postgres -D {PLACE}"], check=False)
        time.sleep(0.2)
        shutil.rmtree(PLACE, ignore_errors=True)


def written(port: int) -> str:
    common = f"'-h', '127.0.0.1', '-p', '{port}', '-U', 'beds'"
    listing = "select datname from pg_database where not datistemplate and datname <> 'postgres' order by 1"
    return f"""
[[evidence]]
path = '{PLACE}/data'
[[backup]]
label = "bed databases"
kind = "database"
command = ['{BIN}/pg_dump', {common}, '--create', '-d', '{{item}}']
saves_as = "{{item}}.sql"
lists = ['{BIN}/psql', {common}, '-d', 'postgres', '-At', '-c', "{listing}"]
restore = ['{BIN}/psql', {common}, '-d', 'postgres', '-q', '-v', 'ON_ERROR_STOP=1', '-f', '{{saved}}']
secret = "database password"
secret_as = "PGPASSWORD"
[[stop]]
port = {port}
within = "30s"
[[delete]]
paths = ['{PLACE}/data']
"""


def forms(secret: str) -> list[bytes]:
    """A secret in every form in which something might write it."""
    raw = secret.encode()
    return [
        raw,
        secret.encode("utf-16-le"),
        base64.b64encode(raw).rstrip(b"="),
        quote(secret).encode(),
        raw.hex().encode(),
        secret.encode("latin-1"),
    ]


def test_saved_removed_set_up_again_and_restored(kleff: Kleff, server: Server, tmp_path: Path) -> None:
    server.sql("create database greenhouse; create database orchard;")
    for name, count in (("greenhouse", 5000), ("orchard", 40)):
        server.sql(
            "create table beds (id int primary key, plant text, width numeric(6,2), seen timestamptz, raw bytea);"
            "insert into beds select n, 'Tomato ' || n || E'\\n\\u00e9', n / 7.0, now(), decode(md5(n::text), 'hex')"
            f" from generate_series(1, {count}) n;"
            "create index on beds (plant); create view tall as select * from beds where width > 3;",
            name,
        )
    rows = {name: server.sql("select * from beds order by id; select count(*) from tall;", name) for name in ("greenhouse", "orchard")}
    file = procedure(tmp_path / "p.toml", written(server.port))
    environment = {"KLEFF_SECRET_DATABASE_PASSWORD": SECRET}
    seen, stop = [], threading.Event()
    watcher = threading.Thread(target=watch, args=(seen, stop), daemon=True)
    watcher.start()
    assert "the secret is not given: database password" in kleff("run", file, "--on", "this", "--yes", code=3).err
    assert not kleff.cases.exists()
    ran = kleff("run", file, "--on", "this", "--yes", env=environment)
    assert "greenhouse.sql" in ran.out
    assert "orchard.sql" in ran.out
    case = kleff.case()
    assert not (PLACE / "data").exists()
    with pytest.raises(ConnectionRefusedError), socket.create_connection(("127.0.0.1", server.port)):
        pass
    kleff("discard", case, "--yes")

    server.set_up()
    server.sql("create database orchard;")
    server.sql("create table mine (n int); insert into mine values (1);", "orchard")
    shown = kleff("restore", case, "--dry-run", env=environment)
    assert "holds 1 thing already, which remains as it is" in " ".join(shown.out.split())
    back = kleff("restore", case, "--on", "this", "--yes", env=environment)
    assert "compared with the bag" in back.out
    assert server.sql("select * from beds order by id; select count(*) from tall;", "greenhouse") == rows["greenhouse"]
    assert server.sql("select n from mine;", "orchard") == "1\n", "what is there already remains as it is"
    stop.set()
    watcher.join()
    report = kleff("report", kleff.case(), "--format", "json").out
    everything = b"\n".join(p.read_bytes() for c in kleff.cases.iterdir() for p in c.rglob("*") if p.is_file())
    everything += "\n".join([ran.out, ran.err, back.out, back.err, report, *seen]).encode()
    assert seen
    for form in forms(SECRET):
        assert form not in everything, form


def watch(seen: list[str], stop: threading.Event) -> None:
    """The process list, as anybody sees it."""
    while not stop.is_set():
        listed = subprocess.run(["ps", "-ww", "-eo", "args"], capture_output=True, text=True).stdout
        if "pg_dump" in listed or "psql" in listed:
            seen.append(listed)
        time.sleep(0.02)


def test_a_wrong_password_stops_before_anything_is_stopped(kleff: Kleff, server: Server, tmp_path: Path) -> None:
    """It is said by the program itself; what it says is kept without the secret."""
    server.sql("create database greenhouse;")
    file = procedure(tmp_path / "p.toml", written(server.port))
    wrong = "not the " + SECRET
    done = kleff("run", file, "--on", "this", "--yes", code=1, env={"KLEFF_SECRET_DATABASE_PASSWORD": wrong})
    assert "password authentication failed" in done.err
    assert server.sql("select 1") == "1\n"
    kept = b"".join(p.read_bytes() for p in kleff.case().rglob("*") if p.is_file())
    assert wrong.encode() not in kept
    kleff("undo", kleff.case(), "--yes")


def test_a_secret_by_a_file_descriptor(kleff: Kleff, server: Server, tmp_path: Path) -> None:
    server.sql("create database greenhouse;")
    file, secret = procedure(tmp_path / "p.toml", written(server.port)), tmp_path / "secret"
    secret.write_text(SECRET + "\n")
    words = [kleff.program, "preview", str(file), "--on", "this", "--secret-fd", "database password=7"]
    shell = subprocess.run(
        ["bash", "-c", 'exec 7<"$1"; shift; exec "$@"', "x", secret, *words], capture_output=True, text=True, cwd=tmp_path, timeout=60
    )
    assert shell.returncode == 0, shell.stderr
    assert "greenhouse.sql" in shell.stdout
