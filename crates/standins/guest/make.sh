#!/bin/sh
# Makes guest.zst: what the disks of made-up guests begin with, 8 MiB: a partition table (GPT), a FAT and an ext4 file system with a few
# files. Needs e2fsprogs, dosfstools, mtools, fdisk and zstd. The result is kept; this tells how it came about.
set -eu
cd "$(dirname "$0")"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export TZ=UTC E2FSPROGS_FAKE_TIME=1772323200 SOURCE_DATE_EPOCH=1772323200

root=$work/root
mkdir -p "$root/etc/app" "$root/srv/orders/2026" "$root/var/log" "$root/home/duty"
echo guest > "$root/etc/hostname"
printf 'listen = 0.0.0.0:8080\nworkers = 4\norders = /srv/orders\n' > "$root/etc/app/app.conf"
for month in 01 02; do
  {
    echo 'order,day,article,pieces'
    n=0
    while [ $n -lt 900 ]; do
      n=$((n + 1))
      printf '%s%05d,2026-%s-%02d,%d,%d\n' "$month" $n "$month" $((n % 28 + 1)) $((n * 37 % 500 + 1000)) $((n % 9 + 1))
    done
  } > "$root/srv/orders/2026/$month.csv"
done
ln -s 2026/02.csv "$root/srv/orders/latest.csv"
n=0
while [ $n -lt 4000 ]; do
  n=$((n + 1))
  printf '2026-02-%02d %02d:%02d app: order %05d taken\n' $((n % 28 + 1)) $((n % 24)) $((n % 60)) $n
done > "$root/var/log/app.log"
printf 'Übergabe: the orders of March come by the new way.\n' > "$root/home/duty/Übergabe.txt"
find "$root" -exec touch -h -d @1772323200 {} +

truncate -s 5M "$work/ext4"
mkfs.ext4 -q -b 1024 -O ^has_journal -m 0 -L root -U 6b1f0f3a-8f0e-4a62-9a1d-52c4a0b7d001 \
  -E hash_seed=6b1f0f3a-8f0e-4a62-9a1d-52c4a0b7d002,root_owner=0:0 -d "$root" "$work/ext4"
truncate -s 2M "$work/fat"
mkfs.fat -i 2a6d0001 -n EFI "$work/fat" > /dev/null
printf 'The loader of a made-up guest.\n' > "$work/loader"
touch -d @1772323200 "$work/loader"
mmd -i "$work/fat" ::/EFI ::/EFI/BOOT
mcopy -m -i "$work/fat" "$work/loader" ::/EFI/BOOT/BOOTX64.EFI

truncate -s 9M "$work/disk"
sfdisk -q "$work/disk" <<TABLE
label: gpt
label-id: 6B1F0F3A-8F0E-4A62-9A1D-52C4A0B7D003
first-lba: 2048
start=1MiB, size=2MiB, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, uuid=6B1F0F3A-8F0E-4A62-9A1D-52C4A0B7D004, name=EFI
start=3MiB, size=5MiB, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4, uuid=6B1F0F3A-8F0E-4A62-9A1D-52C4A0B7D005, name=root
TABLE
dd if="$work/fat" of="$work/disk" bs=1M seek=1 conv=notrunc status=none
dd if="$work/ext4" of="$work/disk" bs=1M seek=3 conv=notrunc status=none
truncate -s 8M "$work/disk"
zstd -q -19 -f "$work/disk" -o guest.zst
