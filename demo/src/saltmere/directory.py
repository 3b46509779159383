"""A real OpenLDAP on a real Linux server: who works for the ferries.

MANUAL. ``install`` gives a directory as a fresh package does: an empty tree. ``configure`` makes it
that of Saltmere Ferries: people, groups and a rule of access. It listens on a socket below
``/run``; ``search`` and ``modify`` are done as the server's own administrator.
"""

from __future__ import annotations

from pathlib import Path

from saltmere.linux import LinuxServer, stop

START = "slapd -F /etc/ldap/slapd.d -h ldapi:/// -u openldap -g openldap"
STOP = stop("slapd")
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
    server.run("sh", "-c", START)


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    people = "".join(_PERSON.format(number=number, base=BASE) for number in range(1, 31))
    members = "".join(f"member: uid=crew-{number},ou=crew,{BASE}\n" for number in range(1, 31, 3))
    group = f"dn: cn=masters,ou=groups,{BASE}\nobjectClass: groupOfNames\ncn: masters\n{members}\n"
    _change(server, "ldapadd", _TREE.format(base=BASE) + people + group)
    _change(server, "ldapmodify", _ACCESS)


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
