#!/bin/bash
# How far.raw was made, by the kernel and its own tools: this ran as the first process of a Debian guest (with mdadm) in the machine emulator, with
# a disk of 108 MiB as vdb, which `sfdisk` had cut into 13 partitions of 8 MiB before (`label: gpt`, thirteen lines `size=16384`).
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev 2>/dev/null; mount -t tmpfs tmp /run; mount -t tmpfs tmp /tmp
/lib/systemd/systemd-udevd --daemon; udevadm trigger; udevadm settle
modprobe -a raid10 ext4
number=0
make() { # LAYOUT PARTITION...
    number=$((number + 1)); layout=$1; shift
    yes | mdadm --create /dev/md$number --level=10 --layout=$layout --chunk=16 --metadata=1.2 --raid-devices=$# --homehost=quay --name=$layout-$# \
        --uuid=5a170000:00004000:80000000:0000010$number "${@/#//dev/vdb}"
    udevadm settle; mdadm --wait /dev/md$number
    mkfs.ext4 -q -b 1024 -N 64 -O ^has_journal,^resize_inode /dev/md$number; mkdir -p /tmp/place; mount /dev/md$number /tmp/place
    seq 1 60000 | sed "s/^/$layout-$# /" >/tmp/place/file; umount /tmp/place
    mdadm --stop /dev/md$number
}
set -x
make f2 1 2 3
make o2 4 5 6
make f2 7 8
make f3 9 10 11 12 13
sync; echo RECIPE-DONE; sleep 1
echo o >/proc/sysrq-trigger; sleep 60
