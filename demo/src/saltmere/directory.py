"""A real OpenLDAP on a real Linux server: who works for the ferries.

MANUAL. ``install`` gives a directory as a fresh package does: an empty tree. ``configure`` makes it
that of Saltmere Ferries: people, groups and a rule of access. It listens on a socket below
``/run``; ``search`` and ``modify`` are done as the server's own administrator.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from saltmere.linux import LinuxServer, stop

START = "slapd -F /etc/ldap/slapd.d -h ldapi:/// -u openldap -g openldap"
STOP = stop("slapd")
_ANSWERS = (  # slapd is there before it answers
    "for try in $(seq 100); do"
    " ldapwhoami -Q -Y EXTERNAL -H ldapi:/// > /dev/null 2>&1 && exit 0; sleep 0.1; "
    "done; exit 1"
)
BASE = "dc=saltmere,dc=example"
_UID = 114
_OWNER = "dn.exact=gidNumber=0+uidNumber=0,cn=peercred,cn=external,cn=auth"
_SCHEMAS = Path("/etc/ldap/schema")  # as the package brings them
_FRESH = """dn: cn=config
objectClass: olcGlobal
cn: config
olcPidFile: /run/slapd/slapd.pid

dn: cn=module{{0}},cn=config
objectClass: olcModuleList
cn: module{{0}}
olcModulePath: /usr/lib/ldap
olcModuleLoad: back_mdb

dn: cn=schema,cn=config
objectClass: olcSchemaConfig
cn: schema

{schemas}
dn: olcDatabase={{-1}}frontend,cn=config
objectClass: olcDatabaseConfig
olcDatabase: {{-1}}frontend
olcAccess: {{0}}to * by {owner} manage by * break

dn: olcDatabase={{0}}config,cn=config
objectClass: olcDatabaseConfig
olcDatabase: {{0}}config
olcAccess: {{0}}to * by {owner} manage by * none

dn: olcDatabase={{1}}mdb,cn=config
objectClass: olcMdbConfig
olcDatabase: {{1}}mdb
olcDbDirectory: /var/lib/ldap
olcSuffix: {base}
olcRootDN: cn=admin,{base}
olcDbMaxSize: 16777216
"""
_TREE = """dn: {base}
objectClass: organization
objectClass: dcObject
o: Saltmere Ferries
dc: saltmere

dn: ou=crew,{base}
objectClass: organizationalUnit
ou: crew

dn: ou=groups,{base}
objectClass: organizationalUnit
ou: groups

"""
_PERSON = """dn: uid=crew-{number},ou=crew,{base}
objectClass: inetOrgPerson
uid: crew-{number}
cn: Crew {number}
sn: Made-up
mail: crew-{number}@saltmere.example
userPassword: {{SSHA}}bWFkZS11cC1oYXNoLW5vdC1yZWFsLS0tLQ{number}

"""
_ACCESS = f"""dn: olcDatabase={{1}}mdb,cn=config
changetype: modify
add: olcAccess
olcAccess: {{0}}to attrs=userPassword by {_OWNER} manage by self write by anonymous auth by * none
olcAccess: {{1}}to * by {_OWNER} manage by users read by * none

dn: olcDatabase={{1}}mdb,cn=config
changetype: modify
add: olcDbIndex
olcDbIndex: uid eq
"""


_SYNC = (
    'olcSyncrepl: rid=00{rid} provider={url} bindmethod=simple binddn="cn=admin,{base}"'
    ' credentials=made-up-ebb searchbase="{base}" type=refreshAndPersist retry="1 +" timeout=2\n'
)
_MEMBER = """dn: cn=module{{0}},cn=config
changetype: modify
add: olcModuleLoad
olcModuleLoad: syncprov

dn: cn=config
changetype: modify
add: olcServerID
olcServerID: {number}

dn: olcOverlay=syncprov,olcDatabase={{1}}mdb,cn=config
changetype: add
objectClass: olcSyncProvConfig
olcOverlay: syncprov

dn: olcDatabase={{1}}mdb,cn=config
changetype: modify
add: olcRootPW
olcRootPW: made-up-ebb
-
add: olcSyncrepl
{lines}-
add: olcMultiProvider
olcMultiProvider: TRUE
"""


def install(server: LinuxServer) -> None:
    server.add_account("openldap", _UID, "/var/lib/ldap")
    schemas = "\n".join(
        (_SCHEMAS / f"{name}.ldif").read_text() for name in ("core", "cosine", "inetorgperson")
    )
    server.write("/etc/ldap/ldap.conf", f"BASE {BASE}\nURI ldapi:///\n")
    server.run("mkdir", "-p", "/var/lib/ldap", "/run/slapd", "/etc/ldap/slapd.d")
    server.run(
        "slapadd",
        "-n",
        "0",
        "-F",
        "/etc/ldap/slapd.d",
        feed=_FRESH.format(base=BASE, owner=_OWNER, schemas=schemas),
    )
    server.run(
        "chown", "-R", "openldap:openldap", "/var/lib/ldap", "/run/slapd", "/etc/ldap/slapd.d"
    )
    server.run("sh", "-c", f"{START} && {_ANSWERS}")


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    people = "".join(_PERSON.format(number=number, base=BASE) for number in range(1, 31))
    members = "".join(f"member: uid=crew-{number},ou=crew,{BASE}\n" for number in range(1, 31, 3))
    group = f"dn: cn=masters,ou=groups,{BASE}\nobjectClass: groupOfNames\ncn: masters\n{members}\n"
    _change(server, "ldapadd", _TREE.format(base=BASE) + people + group)
    _change(server, "ldapmodify", _ACCESS)


STARTED = "start-directory"  # starts it where others reach it, on this server


def listen(server: LinuxServer, url: str) -> None:
    """It is started at this URL from now on."""
    command = START.replace("ldapi:///", f"'ldapi:/// {url}'")
    place = server.folder / "local/bin" / STARTED
    place.parent.mkdir(parents=True, exist_ok=True)
    place.write_text(f"#!/bin/sh\nexec {command}\n")
    place.chmod(0o755)


def join(members: Mapping[str, LinuxServer]) -> None:
    """They keep each other's entries from now on, as members of one set; by their URLs."""
    for number, (url, server) in enumerate(members.items(), 1):
        server.run("sh", "-c", STOP)
        listen(server, url)
        server.run(STARTED)
        others = [(rid, other) for rid, other in enumerate(members, 1) if other != url]
        lines = "".join(_SYNC.format(rid=rid, url=other, base=BASE) for rid, other in others)
        _change(server, "ldapmodify", _MEMBER.format(number=number, lines=lines))


def modify(server: LinuxServer, entry: str, attribute: str, value: str) -> None:
    _change(
        server,
        "ldapmodify",
        f"dn: {entry}\nchangetype: modify\nreplace: {attribute}\n{attribute}: {value}\n",
    )


def search(server: LinuxServer, base: str) -> str:
    """Everything the running program has below ``base``, with what it keeps for itself."""
    return server.run(
        "ldapsearch",
        "-Q",
        "-LLL",
        "-o",
        "ldif-wrap=no",
        "-Y",
        "EXTERNAL",
        "-H",
        "ldapi:///",
        "-b",
        base,
        "*",
        "+",
    )


def _change(server: LinuxServer, program: str, text: str) -> None:
    server.run(program, "-Q", "-Y", "EXTERNAL", "-H", "ldapi:///", feed=text)
