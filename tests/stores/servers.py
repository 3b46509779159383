"""Real servers that are not ours, on loopback, for the contract suite: OpenSSH, vsftpd, pyftpdlib,
WsgiDAV and moto.
"""

from __future__ import annotations

import getpass
import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from base64 import b64encode
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import Any

import asyncssh
import boto3
import httpx

from fennox.links.base import Credential
from tests.places import free_port, loopback

PASSWORD = "ropes and tar 7"
BUCKET_PAGE = 50  # names in one answer to a listing
_PYTHON = [sys.executable, "-W", "ignore", "-m"]


@dataclass(frozen=True)
class Place:
    """A running server: its URL, an account, what it is known by, and the folder it serves as seen
    on this machine.

    ``keeping``: an account that may not remove anything, where the server can hold somebody to
    that.
    """

    url: str
    credential: Credential
    key: str | None
    folder: Path
    keeping: Credential | None = None


def wait_for(host: str, port: int) -> None:
    """Until something listens there."""
    ends = time.monotonic() + 120
    while True:
        try:
            socket.create_connection((host, port), 1).close()
            return
        except OSError:
            if time.monotonic() > ends:
                raise
            time.sleep(0.02)


def certificate(folder: Path, name: str) -> tuple[Path, Path, str]:
    """A self-made certificate for one address, its key, and its fingerprint."""
    cert, key = folder / "cert.pem", folder / "key.pem"
    words = [
        "openssl",
        "req",
        "-x509",
        "-newkey",
        "ec",
        "-nodes",
        "-pkeyopt",
        "ec_paramgen_curve:prime256v1",
    ]
    words += ["-days", "30", "-subj", f"/CN={name}", "-addext", f"subjectAltName=IP:{name}"]
    words += ["-keyout", str(key), "-out", str(cert)]
    subprocess.run(words, check=True, capture_output=True)
    der = subprocess.run(
        ["openssl", "x509", "-in", str(cert), "-outform", "DER"], check=True, capture_output=True
    )
    return cert, key, "SHA256:" + b64encode(sha256(der.stdout).digest()).decode().rstrip("=")


@contextmanager
def openssh(folder: Path, *, authority: asyncssh.SSHKey | None = None) -> Iterator[Place]:
    """OpenSSH's sshd with its internal SFTP server, configured on its own, for the account of the
    test.

    ``authority``: signs a certificate for its host key.
    """
    host, state, served = loopback(), folder / "sshd", folder / "served"
    port = free_port(host)
    state.mkdir()
    served.mkdir()
    client, own = (
        asyncssh.generate_private_key("ssh-ed25519"),
        asyncssh.generate_private_key("ssh-ed25519"),
    )
    (state / "host").write_bytes(own.export_private_key())
    (state / "host").chmod(0o600)
    (state / "host.pub").write_bytes(own.export_public_key())
    careful = asyncssh.generate_private_key("ssh-ed25519")
    (state / "keys").write_text(
        f'command="internal-sftp" {client.export_public_key().decode()}'
        f'command="internal-sftp -P remove,rmdir" {careful.export_public_key().decode()}'
    )
    (state / "config").write_text(
        f"ListenAddress {host}:{port}\nHostKey {state}/host\nPidFile"
        f" {state}/pid\nAuthorizedKeysFile {state}/keys\nStrictModes no\nUsePAM no\nUseDNS"
        " no\nPasswordAuthentication no\nPermitRootLogin yes\nMaxStartups 200:30:400\nSubsystem"
        " sftp internal-sftp\n"
    )
    if authority is not None:
        signed = authority.generate_host_certificate(own, "depot", principals=[host])
        (state / "host-cert.pub").write_bytes(signed.export_certificate())
        with (state / "config").open("a") as config:
            config.write(f"HostCertificate {state}/host-cert.pub\n")
    if os.geteuid() == 0:
        Path("/run/sshd").mkdir(exist_ok=True)
    with started(host, port, "/usr/sbin/sshd", "-D", "-e", "-f", str(state / "config")):
        credential = Credential(getpass.getuser(), private_key=client.export_private_key().decode())
        keeping = Credential(credential.account, private_key=careful.export_private_key().decode())
        yield Place(
            f"sftp://{host}:{port}{served}",
            credential,
            own.get_fingerprint("sha256"),
            served,
            keeping,
        )


@contextmanager
def started(host: str, port: int, *words: str) -> Iterator[None]:
    """A server of its own process, until the end of the test."""
    server = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        wait_for(host, port)
        yield
    finally:
        server.terminate()
        server.wait()


@contextmanager
def pyftpdlib(folder: Path, *, secure: bool) -> Iterator[Place]:
    """pyftpdlib, plain or with TLS asked for on both connections."""
    host, served, key = loopback(), folder / "served", None
    port = free_port(host)
    (served / "depot").mkdir(parents=True)
    words = [
        *_PYTHON,
        "pyftpdlib",
        "-i",
        host,
        "-p",
        str(port),
        "-w",
        "-d",
        str(served),
        "-u",
        "depot",
        "-P",
        PASSWORD,
    ]
    if secure:
        cert, private, key = certificate(folder, host)
        words += ["--tls", "--tls-control-required", "--tls-data-required"]
        words += ["--certfile", str(cert), "--keyfile", str(private)]
    with started(host, port, *words):
        scheme = "ftps" if secure else "ftp"
        yield Place(
            f"{scheme}://{host}:{port}/depot", Credential("depot", PASSWORD), key, served / "depot"
        )


def vsftpd_missing() -> str:
    """Why vsftpd cannot be started here; empty if it can."""
    if not shutil.which("vsftpd") and not Path("/usr/sbin/vsftpd").exists():
        return "vsftpd is not installed"
    return "" if os.geteuid() == 0 else "vsftpd needs root for logins"


@contextmanager
def vsftpd(folder: Path, *, secure: bool) -> Iterator[Place]:
    """Debian's vsftpd; its guest may write, so that no account of this machine is needed.

    What it serves lies right below /tmp, since the guest must be able to enter every folder above
    it.
    """
    with tempfile.TemporaryDirectory(prefix="fennox-ftp-", dir="/tmp") as open_to_all:
        Path(open_to_all).chmod(0o755)
        with _vsftpd(folder, Path(open_to_all) / "served", secure=secure) as place:
            yield place


@contextmanager
def _vsftpd(folder: Path, served: Path, *, secure: bool) -> Iterator[Place]:
    host, guest = loopback(), "ftp" if _account("ftp") else "nobody"
    port = free_port(host)
    (served / "depot").mkdir(parents=True)
    empty = folder / "empty"
    empty.mkdir()
    shutil.chown(served / "depot", guest)
    lines = [
        "listen=YES",
        "background=NO",
        f"listen_address={host}",
        f"listen_port={port}",
        "anonymous_enable=YES",
        "local_enable=NO",
        "write_enable=YES",
        "anon_upload_enable=YES",
        "anon_mkdir_write_enable=YES",
        "anon_other_write_enable=YES",
        "anon_world_readable_only=NO",
        "anon_umask=022",
        f"anon_root={served}",
        f"ftp_username={guest}",
        f"secure_chroot_dir={empty}",
        "seccomp_sandbox=NO",
        f"pasv_address={host}",
        "xferlog_enable=NO",
        "hide_ids=YES",
        "use_localtime=NO",
        "isolate_network=NO",
    ]
    key = None
    if secure:
        cert, private, key = certificate(folder, host)
        lines += [
            "ssl_enable=YES",
            "allow_anon_ssl=YES",
            "force_anon_logins_ssl=YES",
            "force_anon_data_ssl=YES",
            f"rsa_cert_file={cert}",
            f"rsa_private_key_file={private}",
            "require_ssl_reuse=NO",
            "ssl_ciphers=HIGH",
        ]
    config = folder / "vsftpd.conf"
    config.write_text("\n".join(lines) + "\n")
    with started(host, port, "/usr/sbin/vsftpd", str(config)):
        scheme = "ftps" if secure else "ftp"
        credential = Credential("anonymous", "depot@saltmere.example")
        yield Place(f"{scheme}://{host}:{port}/depot", credential, key, served / "depot")


def _account(name: str) -> bool:
    return subprocess.run(["id", name], capture_output=True, check=False).returncode == 0


@contextmanager
def wsgidav(folder: Path, *, secure: bool = False) -> Iterator[Place]:
    """WsgiDAV on cheroot; over plain HTTP it wants digest authentication."""
    host, served, key = loopback(), folder / "served", None
    port = free_port(host)
    (served / "depot").mkdir(parents=True)
    settings = {
        "host": host,
        "port": port,
        "provider_mapping": {"/": str(served)},
        "simple_dc": {"user_mapping": {"*": {"depot": {"password": PASSWORD}}}},
        "http_authenticator": {
            "accept_basic": secure,
            "accept_digest": True,
            "default_to_digest": True,
        },
    }
    if secure:
        cert, private, key = certificate(folder, host)
        settings |= {
            "ssl_certificate": str(cert),
            "ssl_private_key": str(private),
            "ssl_adapter": "builtin",
        }
    config = folder / "wsgidav.json"
    config.write_text(json.dumps(settings))
    with started(host, port, *_PYTHON, "wsgidav.server.server_cli", "--config", str(config), "-q"):
        scheme = "davs" if secure else "dav"
        yield Place(
            f"{scheme}://{host}:{port}/depot", Credential("depot", PASSWORD), key, served / "depot"
        )


@contextmanager
def moto() -> Iterator[str]:
    """moto's S3 server, with nothing in it; its address."""
    host = loopback()
    port = free_port(host)
    pages = f"MOTO_S3_DEFAULT_MAX_KEYS={BUCKET_PAGE}"
    with started(host, port, "env", pages, *_PYTHON, "moto.server", "-H", host, "-p", str(port)):
        yield f"http://{host}:{port}"


def depot(server: str, folder: Path) -> Place:
    """One empty bucket on moto's server, and nothing else there."""
    httpx.post(f"{server}/moto-api/reset", trust_env=False).raise_for_status()
    place = Place(
        f"s3://depot/fennox?endpoint={server}", Credential("AKIADEPOT", PASSWORD), None, folder
    )
    client = bucket_client(place)
    client.create_bucket(Bucket="depot")
    client.close()
    return place


def locking_bucket(place: Place, days: int) -> Place:
    """A further bucket of the same server that locks objects, and what an administrator would write
    for it.
    """
    client = bucket_client(place)
    client.create_bucket(Bucket="locked", ObjectLockEnabledForBucket=True)
    client.close()
    url = place.url.replace("s3://depot/", "s3://locked/") + f"&lock-days={days}"
    return Place(url, place.credential, place.key, place.folder)


def bucket_client(place: Place) -> Any:
    """The bucket, around the store under test."""
    return boto3.client(
        "s3",
        endpoint_url=place.url.split("endpoint=")[1].split("&")[0],
        region_name="us-east-1",
        aws_access_key_id=place.credential.account,
        aws_secret_access_key=place.credential.password,
    )
