#!/bin/bash
# How v4.raw and quotas.raw were made, by the kernel and its own tools: this ran as the first process of a Debian guest (with
# xfsprogs) in the machine emulator, with four empty disks of 24 MiB, vdb to vde. The first two were left with a log that is to be
# replayed; the other two are copies of them that the kernel replayed.
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev 2>/dev/null; mount -t tmpfs tmp /run; mount -t tmpfs tmp /tmp
modprobe xfs
work() { # DISK OPTIONS
    mkdir -p /tmp/place; mount -o "$2" "$1" /tmp/place || echo MOUNT-FAILED
    cd /tmp/place
    mkdir many; for n in $(seq 300); do seq "$n" >"many/name-$n"; done; sync -f .
    for n in $(seq 1 3 300); do rm "many/name-$n"; done
    for n in $(seq 40); do seq $((n * 50)) >"tide-$n"; chown "$n:$n" "tide-$n"; ln -s "tide-$n" "link-$n"; done
    mv tide-7 many/moved; seq 9000 >>tide-8; truncate -s 100 tide-9
    for n in $(seq 0 2 60); do dd if=/dev/zero of=pieces bs=4k count=1 seek="$n" conv=notrunc status=none; done
    exec 9>open; seq 5000 >&9; rm open
    sync -f .
    cd /; xfs_io -x -c 'shutdown -f' /tmp/place; exec 9>&-; umount /tmp/place
}
set -x
mkfs.xfs --unsupported -q -f -m crc=0 -b size=1024 -l version=1,lazy-count=0 /dev/vdb
work /dev/vdb noatime
mkfs.xfs --unsupported -q -f /dev/vdc
work /dev/vdc uquota,gquota
cat /dev/vdb >/dev/vdd; cat /dev/vdc >/dev/vde
mount /dev/vdd /tmp/place && umount /tmp/place; mount -o uquota,gquota /dev/vde /tmp/place && umount /tmp/place
sync; echo FIXTURE-MADE; sleep 2; echo o >/proc/sysrq-trigger; sleep 20
