"""A real libvirt on a real Linux server: the host that the ferries' virtual machines live on.

MANUAL. ``install`` gives a host with no machines. ``configure`` makes it that of Saltmere Ferries:
machines, networks, a storage pool, a filter and a secret. None of these is ever started, and
no bridge appears; ``let_start`` is for machines that are made on it. ``virsh`` speaks to the
daemon by its socket.
"""

from __future__ import annotations

from saltmere.linux import LinuxServer, stop

RESTART = f"{stop('libvirtd')}; libvirtd -d"
_QEMU = """user = "root"
group = "root"
remember_owner = 0
stdio_handler = "file"
security_driver = "none"
namespaces = []
"""
_MACHINE = """<domain type='qemu'>
  <name>{name}</name>
  <uuid>5a17e000-0000-4000-8000-0000000000{number:02}</uuid>
  <description>{what} of Saltmere Ferries</description>
  <memory unit='MiB'>{memory}</memory>
  <vcpu>2</vcpu>
  <os><type arch='x86_64' machine='pc'>hvm</type><boot dev='hd'/></os>
  <devices>
    <emulator>/usr/bin/qemu-system-x86_64</emulator>
    <disk type='file' device='disk'>
      <driver name='qemu' type='raw'/>
      <source file='/var/lib/libvirt/images/{name}.img'/>
      <target dev='vda' bus='virtio'/>
    </disk>
    <interface type='network'>
      <mac address='52:54:00:00:00:{number:02}'/>
      <source network='quay'/>
      <model type='virtio'/>
      <filterref filter='crew-only'/>
    </interface>
    <graphics type='vnc' port='-1' passwd='made-up'/>
  </devices>
</domain>
"""
_NETWORK = """<network>
  <name>{name}</name>
  <uuid>5a17e000-0000-4000-9000-0000000000{number:02}</uuid>
  <bridge name='br-{name}' stp='on' delay='0'/>
  <ip address='10.9.{number}.1' netmask='255.255.255.0'>
    <dhcp><range start='10.9.{number}.100' end='10.9.{number}.200'/>
      <host mac='52:54:00:00:00:01' name='planner' ip='10.9.{number}.10'/></dhcp>
  </ip>
</network>
"""
_POOL = """<pool type='dir'>
  <name>images</name>
  <uuid>5a17e000-0000-4000-a000-000000000001</uuid>
  <target><path>/var/lib/libvirt/images</path></target>
</pool>
"""
_FILTER = """<filter name='crew-only'>
  <uuid>5a17e000-0000-4000-b000-000000000001</uuid>
  <rule action='accept' direction='in'><tcp dstportstart='22'/></rule>
  <rule action='drop' direction='inout'><all/></rule>
</filter>
"""
_SECRET = """<secret ephemeral='no' private='no'>
  <uuid>5a17e000-0000-4000-c000-000000000001</uuid>
  <description>key of the ticket volume</description>
</secret>
"""
_MACHINES = (
    ("planner", "the timetable's planner", 512),
    ("tickets", "the ticket office", 768),
    ("logbook", "logs", 256),
)


def install(server: LinuxServer) -> None:
    server.add_account("libvirt-qemu", 64055, "/var/lib/libvirt")
    server.run(
        "mkdir",
        "-p",
        "/etc/libvirt",
        "/var/lib/libvirt/images",
        "/run/libvirt",
        "/var/log/libvirt",
        "/var/cache",
    )
    server.write("/etc/libvirt/qemu.conf", _QEMU)
    server.write("/etc/libvirt/libvirtd.conf", 'auth_unix_rw = "none"\nunix_sock_group = "root"\n')
    server.run("sh", "-c", "libvirtd -d")
    virsh(server, "version")


def let_start(server: LinuxServer) -> None:
    """From now on machines can be started on it: libvirt reads which processors are on."""
    server.run("sh", "-c", "mkdir -p /sys && mount -t sysfs sysfs /sys")


def configure(server: LinuxServer) -> None:
    """What Saltmere Ferries set up with much work."""
    for command, text in (
        ("nwfilter-define", _FILTER),
        ("secret-define", _SECRET),
        *(
            ("net-define", _NETWORK.format(name=name, number=n))
            for n, name in enumerate(("quay", "deck"), 1)
        ),
        ("pool-define", _POOL),
        *(
            ("define", _MACHINE.format(name=name, what=what, memory=memory, number=number))
            for number, (name, what, memory) in enumerate(_MACHINES, 1)
        ),
    ):
        virsh(server, command, "/dev/stdin", feed=text)
    virsh(server, "secret-set-value", "5a17e000-0000-4000-c000-000000000001", "bWFkZS11cA==")
    virsh(server, "autostart", "planner")
    virsh(server, "pool-autostart", "images")


def virsh(server: LinuxServer, *words: str, feed: str = "") -> str:
    return server.run("virsh", "-q", "-c", "qemu:///system", *words, feed=feed)
