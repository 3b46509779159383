"""The stories of real systems: how each is changed, what a comparison must say of it, and what is
true of it.
"""

from __future__ import annotations

from saltmere import balancer, directory, hypervisor, leases, metrics, names, postgres, web
from saltmere.linux import SSH_RESTART, LinuxServer
from tests.engine.story import Story
from tests.places import free_port
from tests.service.running import until

SSH = {"ssh-restart": SSH_RESTART}


def _change_fares(server: LinuxServer) -> None:
    postgres.sql(server, "update office.fares set pence = 999 where id = 7", "ticketing")


def _database(server: LinuxServer) -> dict[str, object]:
    tables = ("office.settings", "office.fares", "office.sales")
    return {
        **{
            table: postgres.sql(server, f"table {table} order by 1", "ticketing")
            for table in tables
        },
        "owner": postgres.sql(
            server,
            "select rolname from pg_database d join pg_roles r on r.oid = datdba "
            "where datname = 'ticketing'",
        ),
        "members": postgres.sql(
            server,
            "select r.rolname, m.rolname from pg_auth_members a "
            "join pg_roles r on r.oid = roleid join pg_roles m on m.oid = member "
            "where r.rolname = 'reports'",
        ),
        "password": postgres.sql(
            server, "select rolpassword from pg_authid where rolname = 'ticketing'"
        ),
        "work_mem": postgres.sql(server, "show work_mem"),
        "search path": postgres.sql(server, "show search_path", "ticketing"),
    }


def _change_timeout(server: LinuxServer) -> None:
    site = server.read("/etc/nginx/sites-available/timetable")
    server.write("/etc/nginx/sites-available/timetable", site.replace("30s", "45s"))
    server.run("sh", "-c", web.RELOAD)


def _web(server: LinuxServer) -> dict[str, object]:
    site = "timetable.saltmere.example"
    return {
        "as nginx reads it": server.run("nginx", "-T"),
        "moved": web.ask(server, site, "/old/route-7"),
        "status": web.ask(server, site, "/status"),
        "crew, over TLS": web.ask_crew(server),
    }


def _change_weight(server: LinuxServer) -> None:
    text = server.read("/etc/haproxy/haproxy.cfg")
    server.write("/etc/haproxy/haproxy.cfg", text.replace("weight 10 backup", "weight 15 backup"))
    server.run("sh", "-c", balancer.RELOAD)


def _balancer(server: LinuxServer) -> dict[str, object]:
    answers = {
        host: balancer.ask(server, f"{host}.saltmere.example")
        for host in ("desk-7", "freight", "nobody-knows")
    }
    weights = balancer.command(server, "show servers state tickets")
    return {
        **answers,
        "weights": [
            line.split()[3:5] + line.split()[7:9] for line in weights.splitlines()[2:] if line
        ],
        "map": sorted(
            line.split(" ", 1)[1]
            for line in balancer.command(server, f"show map {balancer.MAP}").split("\n")
            if line
        ),
    }


def _install_metrics(server: LinuxServer) -> None:
    metrics.install(server, f"{server.host}:{free_port(server.host)}")


def _change_rule(server: LinuxServer) -> None:
    text = server.read("/etc/prometheus/rules/ships.yml")
    server.write("/etc/prometheus/rules/ships.yml", text.replace("for: 7m", "for: 9m"))
    metrics.restart(server)


def _metrics(server: LinuxServer) -> dict[str, object]:
    # the program finds its targets some seconds after it has begun
    until(lambda: bool(_targets(server)), "its targets are found")
    [group] = metrics.ask(server, "/api/v1/rules")["groups"]
    return {
        "address": metrics.address(server),
        "configuration": metrics.ask(server, "/api/v1/status/config"),
        "rules": [
            (rule["name"], rule["query"], rule["duration"], rule["labels"])
            for rule in group["rules"]
        ],
        "targets": _targets(server),
    }


def _targets(server: LinuxServer) -> list[tuple[str, str, list[tuple[str, str]]]]:
    return sorted(
        (target["scrapePool"], target["scrapeUrl"], sorted(target["labels"].items()))
        for target in metrics.ask(server, "/api/v1/targets")["activeTargets"]
    )


def _install_names(server: LinuxServer) -> None:
    names.install(server, free_port("127.0.0.1"), free_port("127.0.0.1"))


def _change_ferry(server: LinuxServer) -> None:
    ferry = "ferry-7.ships.saltmere.example"
    names.update(server, f"delete {ferry} A", f"add {ferry} 300 A 198.51.100.77")


def _names(server: LinuxServer) -> dict[str, object]:
    return {
        "port": names.port(server),
        "zone": names.every_name(server, "saltmere.example"),
        "ships": names.every_name(server, "ships.saltmere.example"),
        "ferry": names.ask(server, "ferry-7.ships.saltmere.example", "A"),
    }


def _change_person(server: LinuxServer) -> None:
    directory.modify(
        server, f"uid=crew-7,ou=crew,{directory.BASE}", "mail", "master@saltmere.example"
    )


def _directory(server: LinuxServer) -> dict[str, object]:
    return {
        "entries": directory.search(server, directory.BASE),
        "configuration": sorted(
            directory.search(server, "olcDatabase={1}mdb,cn=config").splitlines()
        ),
        "schemas": directory.search(server, "cn=schema,cn=config"),
    }


def _change_reservation(server: LinuxServer) -> None:
    """Set while the server runs, and written into no file."""
    settings = leases.command(server, "config-get")
    settings["Dhcp4"]["subnet4"][1]["reservations"][2]["hostname"] = "wheelhouse"
    leases.command(server, "config-set", settings)


def _leases(server: LinuxServer) -> dict[str, object]:
    return {"in force": leases.command(server, "config-get"), "file": server.read(leases.FILE)}


def _change_memory(server: LinuxServer) -> None:
    text = hypervisor.virsh(server, "dumpxml", "--inactive", "--security-info", "tickets")
    hypervisor.virsh(server, "define", "/dev/stdin", feed=text.replace("786432", "1048576"))


def _hypervisor(server: LinuxServer) -> dict[str, object]:
    asked = (
        *(
            ("dumpxml", "--inactive", "--security-info", name)
            for name in ("planner", "tickets", "logbook")
        ),
        *(("net-dumpxml", "--inactive", name) for name in ("quay", "deck")),
        ("pool-dumpxml", "--inactive", "images"),
        ("nwfilter-dumpxml", "crew-only"),
        ("secret-list",),
        ("secret-get-value", "5a17e000-0000-4000-c000-000000000001"),
        ("list", "--all"),
        ("list", "--all", "--autostart"),
        ("net-list", "--all"),
        ("pool-list", "--all", "--autostart"),
    )
    return {" ".join(words): hypervisor.virsh(server, *words) for words in asked}


_SHIPS_SOA = (
    "ships.saltmere.example. / SOA / 0: 3600 ns1.saltmere.example. harbour.saltmere.example. "
    "202603010{} 7200 900 1209600 3600"
)

STORIES = [
    Story(
        "postgresql-server",
        postgres.install,
        postgres.configure,
        _change_fares,
        _database,
        {**SSH, "database-restart": postgres.RESTART},
        {"roles": 3, "databases": 1, "tables": 3, "views": 1, "extensions": 1},
        [
            "~ postgresql/databases/ticketing.sql",
            "- office.fares: 7\troute-7\t135",
            "+ office.fares: 7\troute-7\t999",
        ],
    ),
    Story(
        "nginx-web-server",
        web.install,
        web.configure,
        _change_timeout,
        _web,
        {**SSH, "web-reload": web.RELOAD},
        {"server names": 2, "enabled sites": 2, "upstreams": 1, "web certificates": 1},
        [
            "~ /etc/nginx/sites-available/timetable",
            (
                "- timetable.saltmere.example:   location / { proxy_pass http://planners;"
                " proxy_read_timeout 30s; }"
            ),
            (
                "+ timetable.saltmere.example:   location / { proxy_pass http://planners;"
                " proxy_read_timeout 45s; }"
            ),
        ],
    ),
    Story(
        "haproxy-load-balancer",
        balancer.install,
        balancer.configure,
        _change_weight,
        _balancer,
        {**SSH, "balancer-reload": balancer.RELOAD},
        {"frontends": 1, "backends": 3, "balanced servers": 2, "maps": 1},
        [
            "~ /etc/haproxy/haproxy.cfg",
            "- backend tickets:   server quay-2 127.0.0.1:9 weight 10 backup",
            "+ backend tickets:   server quay-2 127.0.0.1:9 weight 15 backup",
        ],
    ),
    Story(
        "prometheus-server",
        _install_metrics,
        metrics.configure,
        _change_rule,
        _metrics,
        {**SSH, "metrics-restart": metrics.RESTART},
        {"jobs": 2, "rules": 12, "target files": 1},
        [
            "~ /etc/prometheus/rules/ships.yml",
            "- groups / name=ships / rules / 6 / for: 7m",
            "+ groups / name=ships / rules / 6 / for: 9m",
        ],
        lambda server: {"metrics-address": f"http://{metrics.address(server)}"},
    ),
    Story(
        "bind-name-server",
        _install_names,
        names.configure,
        _change_ferry,
        _names,
        {**SSH, "names-restart": names.RESTART},
        {"zones": 2, "zone files": 2, "keys": 1},
        [
            "~ /var/lib/bind/db.ships",
            f"- {_SHIPS_SOA.format(2)}",
            f"+ {_SHIPS_SOA.format(3)}",
            "- ferry-7.ships.saltmere.example. / A / 0: 300 198.51.100.7",
            "+ ferry-7.ships.saltmere.example. / A / 0: 300 198.51.100.77",
        ],
    ),
    Story(
        "openldap-directory",
        directory.install,
        directory.configure,
        _change_person,
        _directory,
        {**SSH, "directory-stop": directory.STOP, "directory-start": directory.START},
        {"directory databases": 1, "suffixes": 1, "schemas": 3, "entries": 34},
        [
            "~ openldap/entries-1.ldif",
            "- uid=crew-7,ou=crew,dc=saltmere,dc=example / mail / 0: crew-7@saltmere.example",
            "+ uid=crew-7,ou=crew,dc=saltmere,dc=example / mail / 0: master@saltmere.example",
        ],
    ),
    Story(
        "kea-dhcp-server",
        leases.install,
        leases.configure,
        _change_reservation,
        _leases,
        {**SSH, "dhcp-restart": leases.RESTART, "dhcp-socket": leases.SOCKET},
        {"subnets": 4, "pools": 4, "reservations": 24},
        [
            "~ kea/in-force.json",
            (
                "- Dhcp4 / subnet4 / subnet=10.2.0.0/24 / reservations / ip-address=10.2.0.12 /"
                " hostname: desk-2-12"
            ),
            (
                "+ Dhcp4 / subnet4 / subnet=10.2.0.0/24 / reservations / ip-address=10.2.0.12 /"
                " hostname: wheelhouse"
            ),
        ],
    ),
    Story(
        "libvirt-host",
        hypervisor.install,
        hypervisor.configure,
        _change_memory,
        _hypervisor,
        {**SSH, "hypervisor-restart": hypervisor.RESTART},
        {
            "machines": 3,
            "networks": 2,
            "pools": 1,
            "network filters": 1,
            "libvirt secrets": 1,
            "starting machines": 1,
        },
        [
            "~ libvirt/machines/tickets.xml",
            "- domain / memory / #text: 786432",
            "+ domain / memory / #text: 1048576",
            "- domain / currentMemory / #text: 786432",
            "+ domain / currentMemory / #text: 1048576",
        ],
    ),
]
PROGRAMS = {
    "postgresql-server": "pg_ctlcluster",
    "nginx-web-server": "nginx",
    "haproxy-load-balancer": "haproxy",
    "prometheus-server": "prometheus",
    "bind-name-server": "named",
    "openldap-directory": "slapd",
    "kea-dhcp-server": "kea-dhcp4",
    "libvirt-host": "libvirtd",
}
