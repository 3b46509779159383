"""A real PostgreSQL on a real Linux server: the ticket office's database.

MANUAL. ``install`` makes the cluster 15/main as Debian's package does and starts it; it listens on
its own socket only. ``configure`` makes it the database that the ticket office lives from: roles, a
schema, tables of settings and fares, and a much larger table of sales, which is no configuration.
"""

from __future__ import annotations

from saltmere.linux import LinuxServer

RESTART = "pg_ctlcluster 15 main restart"
_UID = 112

_SCHEMA = """
create role ticketing login password 'made-up-gulls';
create role reports nologin;
grant reports to ticketing;
create database ticketing owner ticketing;
\\connect ticketing
create schema office authorization ticketing;
create table office.settings (name text primary key, value text not null);
insert into office.settings select 'setting-' || lpad(n::text, 3, '0'), md5(n::text)
    from generate_series(1, 60) n;
create table office.fares (id int primary key, route text not null,
    pence int not null check (pence > 0));
insert into office.fares select n, 'route-' || n, 100 + n * 5 from generate_series(1, 40) n;
create table office.sales (id bigint primary key, fare int references office.fares,
    sold timestamptz not null);
insert into office.sales select n, 1 + n % 40, '2026-01-01'::timestamptz + n * interval '1 minute'
  from generate_series(1, 2000) n;
create view office.routes as select distinct route from office.fares;
alter schema office owner to ticketing;
alter table office.settings owner to ticketing;
alter table office.fares owner to ticketing;
alter table office.sales owner to ticketing;
alter view office.routes owner to ticketing;
grant select on office.fares to reports;
alter database ticketing set search_path to office, public;
"""


def install(server: LinuxServer) -> None:
    """The package's own first cluster on a running server that has none."""
    server.add_account("postgres", _UID, "/var/lib/postgresql")
    server.run(
        "mkdir",
        "-p",
        "/var/log/postgresql",
        "/var/lib/postgresql",
        "/etc/postgresql",
        "/run/postgresql",
    )
    server.run(
        "chown",
        "postgres:",
        "/var/log/postgresql",
        "/var/lib/postgresql",
        "/etc/postgresql",
        "/run/postgresql",
    )
    server.run("pg_createcluster", "15", "main", "--", "--no-sync")
    server.append("/etc/postgresql/15/main/postgresql.conf", "listen_addresses = ''\n")
    server.run("sh", "-c", "pg_ctlcluster 15 main start >/dev/null 2>&1")


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    sql(server, _SCHEMA)
    server.append("/etc/postgresql/15/main/postgresql.conf", "work_mem = 8MB\n")
    server.append(
        "/etc/postgresql/15/main/pg_hba.conf", "local ticketing ticketing scram-sha-256\n"
    )
    server.run("sh", "-c", f"{RESTART} >/dev/null 2>&1")


def sql(server: LinuxServer, text: str, database: str = "postgres") -> str:
    """Run statements as the database's own administrator."""
    words = [
        "runuser",
        "-u",
        "postgres",
        "--",
        "psql",
        "-XAtq",
        "-v",
        "ON_ERROR_STOP=1",
        "-d",
        database,
    ]
    return server.run(*words, feed=text)
