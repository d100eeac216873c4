#!/bin/bash
# How mixed.raw was made, as far.raw (`recipe.sh`): here of a disk of 96 MiB with partitions of 30, 24 and 24 MiB (`label: gpt`, `size=61440`,
# `size=49152`, `size=49152`), in a guest with mdadm, cryptsetup, lvm2 and fdisk. What is encrypted opens with the passphrase `high tide`.
export PATH=/usr/sbin:/usr/bin:/sbin:/bin
mount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev 2>/dev/null; mount -t tmpfs tmp /run; mount -t tmpfs tmp /tmp
/lib/systemd/systemd-udevd --daemon; udevadm trigger; udevadm settle
modprobe -a raid1 dm-crypt dm-mod ext4 xts
fill() { # DEVICE WORD
    mkfs.ext4 -q -b 1024 -N 64 -O ^has_journal,^resize_inode "$1"; mkdir -p /tmp/place; mount "$1" /tmp/place
    seq 1 3000 | sed "s/^/$2 /" >/tmp/place/file; umount /tmp/place
}
set -x
# An encrypted volume in a logical one.
pvcreate -q /dev/vdb1; vgcreate -q -s 1M harbour /dev/vdb1; lvcreate -q -y -L 24M -n vault harbour; udevadm settle
quick="--batch-mode --pbkdf-memory 1024 --pbkdf-parallel 1 --pbkdf-force-iterations 4 --luks2-metadata-size 16k --luks2-keyslots-size 512k"
printf %s "high tide" | cryptsetup luksFormat --key-size 256 --type luks2 $quick /dev/harbour/vault -
printf %s "high tide" | cryptsetup open /dev/harbour/vault deep --key-file -
fill /dev/mapper/deep inside
cryptsetup close deep; vgchange -an harbour
# Partitions of an array.
yes | mdadm --create /dev/md7 --level=1 --metadata=1.2 --raid-devices=2 --homehost=quay --name=parts --uuid=5a170000:00004000:80000000:00000201 /dev/vdb2 /dev/vdb3
udevadm settle; mdadm --wait /dev/md7
printf 'label: gpt\nsize=16384\nsize=20480\n' | sfdisk -q /dev/md7; udevadm settle; partx -u /dev/md7; udevadm settle
fill /dev/md7p1 first; fill /dev/md7p2 second
mdadm --stop /dev/md7
sync; echo RECIPE-DONE; sleep 1
echo o >/proc/sysrq-trigger; sleep 60
