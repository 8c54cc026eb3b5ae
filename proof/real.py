"""Real servers for `make real` and `make proof`: installed with apt where that is possible, started on loopback, and told to a
command.

    python proof/real.py -- COMMAND...      starts what runs here, sets BRAMBLEMOOR_REAL to a file that tells where, runs the
    command

Of each server that cannot be had it says "skipped: ...". Each WebDAV server serves a folder of its own; the object store keeps
its objects in memory. All of it is gone afterwards.
"""

import base64
import hashlib
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

USER, PASSWORD = "ann", "secret"
KEY, SECRET = "OWNERKEY", "ownersecret"
BUCKET = "valley"
_PACKAGES = {
    "apache": ("apache2", "apache2"),
    "nginx": ("nginx", "nginx-light libnginx-mod-http-dav-ext"),
    "ceph": ("radosgw", "radosgw ceph-mon ceph-osd"),
}
Where = dict[str, Any]


def main() -> int:
    command = sys.argv[sys.argv.index("--") + 1 :]
    with tempfile.TemporaryDirectory(prefix="real-", dir="/tmp") as scratch, servers(Path(scratch)) as known:
        told = Path(scratch, "real.json")
        told.write_text(json.dumps(known))
        print(f"real servers: {', '.join(known) or 'none'}", flush=True)
        return subprocess.run(command, env=os.environ | {"BRAMBLEMOOR_REAL": str(told)}).returncode


@contextmanager
def servers(
    folder: Path, only: tuple[str, ...] = ("wsgidav", "apache", "apache-tls", "nginx", "ceph")
) -> Iterator[dict[str, Where]]:
    """Start them; yields by name the kind, address, user and secret of each."""
    folder.chmod(0o755)
    processes: list[subprocess.Popen[bytes]] = []
    known: dict[str, Where] = {}
    starts: dict[str, Callable[[Path, list[subprocess.Popen[bytes]]], dict[str, Where]]] = {
        "wsgidav": _wsgidav, "apache": _apache, "nginx": _nginx, "ceph": _ceph,
    }  # fmt: skip
    try:
        for name, start in starts.items():
            if not any(one.startswith(name) for one in only):
                continue
            why = _lacking(name)
            if why:
                print(f"skipped: {name}: {why}", flush=True)
                continue
            own = folder / name
            own.mkdir()
            own.chmod(0o777)
            try:
                found = start(own, processes)
                known |= {one: where for one, where in found.items() if one in only}
            except (OSError, subprocess.SubprocessError, RuntimeError) as error:
                print(f"skipped: {name}: it does not start ({error})", flush=True)
        yield known
    finally:
        for process in reversed(processes):
            process.send_signal(signal.SIGTERM)
        for process in reversed(processes):
            try:
                process.wait(10)
            except subprocess.TimeoutExpired:
                process.kill()


def _lacking(name: str) -> str:
    """Why a server cannot be had, once apt was asked; "" where it is here."""
    if name not in _PACKAGES:
        return ""
    program, packages = _PACKAGES[name]
    if shutil.which(program) is None and os.geteuid() == 0 and shutil.which("apt-get"):
        policy = Path("/usr/sbin/policy-rc.d")
        if not policy.exists():  # so that apt starts nothing
            policy.write_text("#!/bin/sh\nexit 101\n")
            policy.chmod(0o755)
        command = ["apt-get", "install", "-y", "-q", "--no-install-recommends", *packages.split()]
        subprocess.run(["apt-get", "update", "-q"], capture_output=True)
        subprocess.run(command, capture_output=True, env=os.environ | {"DEBIAN_FRONTEND": "noninteractive"})
    if shutil.which(program) is None:
        return f"{program} is not installed, and cannot be here (apt-get install {packages}, as root)"
    return "" if os.geteuid() == 0 else "it is started as root only"


def free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


def _listens(port: int, seconds: float = 30) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        try:
            socket.create_connection(("127.0.0.1", port), 1).close()
            return
        except OSError:
            time.sleep(0.1)
    raise RuntimeError(f"nothing listens on port {port}")


def _dav(url: str, folder: Path, **more: str) -> Where:
    return {"kind": "folders", "url": url, "user": USER, "secret": PASSWORD, "folder": str(folder), **more}


def _wsgidav(own: Path, processes: list[subprocess.Popen[bytes]]) -> dict[str, Where]:
    root, port = own / "root", free_port()
    root.mkdir()
    (own / "config.json").write_text(json.dumps({
        "host": "127.0.0.1", "port": port, "provider_mapping": {"/": str(root)},
        "http_authenticator": {"accept_basic": True, "accept_digest": True, "default_to_digest": True},
        "simple_dc": {"user_mapping": {"*": {USER: {"password": PASSWORD}}}}, "verbose": 0, "dir_browser": {"enable": False},
        "lock_storage": True, "property_manager": True,
    }))  # fmt: skip
    program = Path(sys.executable).with_name("wsgidav")
    processes.append(_begun([str(program), "-c", str(own / "config.json"), "-q"], own))
    _listens(port)
    return {"wsgidav": _dav(f"http://127.0.0.1:{port}/", root)}


def _begun(command: list[str], own: Path) -> subprocess.Popen[bytes]:
    log = (own / f"{Path(command[0]).name}.log").open("wb")
    return subprocess.Popen(command, stdout=log, stderr=log, stdin=subprocess.DEVNULL)


def _apache(own: Path, processes: list[subprocess.Popen[bytes]]) -> dict[str, Where]:
    import trustme

    root, port, secure = own / "root", free_port(), free_port()
    root.mkdir()
    root.chmod(0o777)
    authority = trustme.CA()
    authority.cert_pem.write_to_path(own / "authority.pem")
    served = authority.issue_cert("127.0.0.1", "localhost")
    served.private_key_pem.write_to_path(own / "key.pem")
    (own / "cert.pem").write_bytes(b"".join(one.bytes() for one in served.cert_chain_pems))
    digest = base64.b64encode(hashlib.sha1(PASSWORD.encode(), usedforsecurity=False).digest()).decode()
    (own / "passwd").write_text(f"{USER}:{{SHA}}{digest}\n")
    modules = (
        "mpm_event authn_core authn_file authz_core authz_user auth_basic dav dav_fs dav_lock setenvif headers ssl"
    )
    loaded = "\n".join(
        f"LoadModule {one}_module /usr/lib/apache2/modules/mod_{one}.so" for one in [*modules.split(), "socache_shmcb"]
    )
    (own / "apache.conf").write_text(f"""
ServerRoot /usr/lib/apache2
ServerName localhost
PidFile {own}/apache.pid
DefaultRuntimeDir {own}
Mutex file:{own} default
ErrorLog {own}/error.log
LogLevel warn
Listen 127.0.0.1:{port}
Listen 127.0.0.1:{secure}
{loaded}
User www-data
Group www-data
DavLockDB {own}/DavLock
DocumentRoot {root}
AllowEncodedSlashes On
<Directory {root}>
  Dav On
  AllowOverride None
  Options None
  AuthType Basic
  AuthName dav
  AuthUserFile {own}/passwd
  Require valid-user
</Directory>
<VirtualHost 127.0.0.1:{secure}>
  SSLEngine on
  SSLCertificateFile {own}/cert.pem
  SSLCertificateKeyFile {own}/key.pem
</VirtualHost>
""")
    processes.append(_begun(["apache2", "-f", str(own / "apache.conf"), "-DFOREGROUND"], own))
    _listens(port)
    return {
        "apache": _dav(f"http://127.0.0.1:{port}/", root),
        "apache-tls": _dav(f"https://localhost:{secure}/", root, authority=str(own / "authority.pem")),
    }


def _nginx(own: Path, processes: list[subprocess.Popen[bytes]]) -> dict[str, Where]:
    root, port = own / "root", free_port()
    root.mkdir()
    root.chmod(0o777)
    digest = base64.b64encode(hashlib.sha1(PASSWORD.encode(), usedforsecurity=False).digest()).decode()
    (own / "passwd").write_text(f"{USER}:{{SHA}}{digest}\n")
    (own / "nginx.conf").write_text(f"""
load_module /usr/lib/nginx/modules/ngx_http_dav_ext_module.so;
user www-data;
daemon off;
pid {own}/nginx.pid;
error_log {own}/error.log;
events {{ worker_connections 256; }}
http {{
  access_log off;
  client_body_temp_path {own}/body;
  proxy_temp_path {own}/proxy; fastcgi_temp_path {own}/fastcgi; uwsgi_temp_path {own}/uwsgi; scgi_temp_path {own}/scgi;
  client_max_body_size 0;
  dav_ext_lock_zone zone=locks:1m;
  server {{
    listen 127.0.0.1:{port};
    location / {{
      root {root};
      auth_basic dav;
      auth_basic_user_file {own}/passwd;
      dav_methods PUT DELETE MKCOL COPY MOVE;
      dav_ext_methods PROPFIND OPTIONS LOCK UNLOCK;
      dav_ext_lock zone=locks;
    }}
  }}
}}
""")
    processes.append(_begun(["nginx", "-c", str(own / "nginx.conf"), "-e", str(own / "error.log")], own))
    _listens(port)
    return {"nginx": _dav(f"http://127.0.0.1:{port}/", root)}


def _ceph(own: Path, processes: list[subprocess.Popen[bytes]]) -> dict[str, Where]:
    """Ceph's object store with its objects in memory: a monitor, one store and the gateway."""
    port, monitor = free_port(), free_port()
    for one in ("mon", "osd", "rgw", "run", "log"):
        (own / one).mkdir()
    config = own / "ceph.conf"
    config.write_text(f"""[global]
fsid = {uuid.uuid4()}
mon host = [v1:127.0.0.1:{monitor}]
auth cluster required = none
auth service required = none
auth client required = none
run dir = {own}/run
admin socket = {own}/run/$name.$pid.asok
log file = {own}/log/$name.log
pid file = {own}/run/$name.pid
osd pool default size = 1
osd pool default min size = 1
mon allow pool size one = true
osd crush chooseleaf type = 0
osd pool default pg num = 1
osd pool default pgp num = 1
osd pool default pg autoscale mode = off
public addr = 127.0.0.1
cluster addr = 127.0.0.1
ms bind msgr2 = false
mon data avail crit = 1
mon data avail warn = 2
[mon]
mon data = {own}/mon
[osd]
osd data = {own}/osd
osd objectstore = memstore
memstore device bytes = 8589934592
osd class load list = *
osd class default list = *
osd crush update on start = false
osd class update on start = false
[client]
rgw data = {own}/rgw
rgw frontends = beast endpoint=127.0.0.1:{port}
rgw crypt require ssl = false
""")
    c = ["-c", str(config)]

    def do(*command: str) -> None:
        subprocess.run(command, check=True, capture_output=True, timeout=60)

    do("monmaptool", "--create", "--clobber", "--addv", "a", f"[v1:127.0.0.1:{monitor}]", "--fsid",
       config.read_text().split("fsid = ")[1].split()[0], str(own / "monmap"))  # fmt: skip
    do("ceph-mon", *c, "--mkfs", "-i", "a", "--monmap", str(own / "monmap"))
    processes.append(_begun(["ceph-mon", *c, "-i", "a", "-f"], own))
    store = str(uuid.uuid4())
    do("ceph", *c, "osd", "new", store)
    do("ceph-osd", *c, "-i", "0", "--mkfs", "--osd-uuid", store)
    do("ceph", *c, "osd", "crush", "add-bucket", "h", "host", "root=default")
    do("ceph", *c, "osd", "crush", "add", "osd.0", "1.0", "root=default", "host=h")
    processes.append(_begun(["ceph-osd", *c, "-i", "0", "-f"], own))
    processes.append(_begun(["radosgw", *c, "-n", "client.rgw", "-f"], own))
    _listens(port, 60)
    do("radosgw-admin", *c, "-n", "client.rgw", "user", "create", "--uid=owner", "--display-name=owner",
       f"--access-key={KEY}", f"--secret-key={SECRET}")  # fmt: skip
    import boto3

    bare = boto3.client(
        "s3",
        endpoint_url=f"http://127.0.0.1:{port}",
        aws_access_key_id=KEY,
        aws_secret_access_key=SECRET,
        region_name="us-east-1",
    )
    bare.create_bucket(Bucket=BUCKET)
    url = f"http://127.0.0.1:{port}/{BUCKET}"
    return {"ceph": {"kind": "bucket", "url": url, "user": KEY, "secret": SECRET, "folder": ""}}


if __name__ == "__main__":
    sys.exit(main())
