#!/bin/bash
# How one.raw and two.raw were made, by the kernel and its own tools: this ran as the first process of a Debian guest (with lvm2,
# thin-provisioning-tools) in the machine emulator, with two empty disks of 48 MiB as vdb and vdc.
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev 2>/dev/null; mount -t tmpfs tmp /run; mount -t tmpfs tmp /tmp
/lib/systemd/systemd-udevd --daemon; udevadm trigger; udevadm settle
modprobe -a dm-raid dm-thin-pool dm-cache dm-cache-smq raid1 ext4
fill() { # VOLUME NAME
    mkfs.ext4 -q -b 1024 -N 64 -O ^has_journal "/dev/tide/$1"; mkdir -p /tmp/place; mount "/dev/tide/$1" /tmp/place
    seq 1 "$3" | sed "s/^/$2 /" >/tmp/place/file; umount /tmp/place
}
more() { mount "/dev/tide/$1" /tmp/place; seq 1 "$3" | sed "s/^/$2 /" >"/tmp/place/more"; sync; umount /tmp/place; }
set -x
pvcreate -q /dev/vdb /dev/vdc; vgcreate -q -s 1M tide /dev/vdb /dev/vdc
lvcreate -q -y --type raid1 -m1 -L 8M -n mirrored tide; while [ "$(lvs --noheadings -o sync_percent tide/mirrored | tr -d ' ')" != 100.00 ]; do sleep 1; done
fill mirrored mirrored 30000
lvcreate -q -y --type thin-pool -L 16M --poolmetadatasize 2M -c 64k -Z y -n pool tide
lvcreate -q -y -V 64M -T tide/pool -n thin
fill thin thin 30000
lvcreate -q -y -s tide/thin -n frozen -kn
more thin later 40000
lvcreate -q -y -L 12M -n cached tide /dev/vdb
lvcreate -q -y --type cache-pool -L 8M --poolmetadatasize 2M -c 32k -n fast tide /dev/vdc
lvconvert -q -y --type cache --cachepool tide/fast --cachemode writeback tide/cached
fill cached cached 30000
for turn in 1 2 3 4 5 6; do more cached "later$turn" 40000; cat /dev/tide/cached >/dev/null; done
lvs -a -o +cache_dirty_blocks,cache_used_blocks tide
dmsetup status
vgchange -an tide
sync; echo FIXTURE-MADE; sleep 2; echo o >/proc/sysrq-trigger; sleep 20
