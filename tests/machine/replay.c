/* What a disk holds after its power was cut: all that was written before its last flush,
 * and of what was written after it some, some not, and one piece in part. Reads the log
 * of writes that the emulator keeps, which has the format of the kernel's dm-log-writes:
 * a sector that begins with magic, version, count of entries and size of a sector; then
 * for each write a sector that tells it, and its data. replay LOG DISK CHANCE   DISK as
 * it was before; CHANCE: a number from which chance comes */
#include <endian.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { FLUSH = 1, FUA = 2, DISCARD = 4, ENTRIES_MAX = 1000000, SECTOR_MAX = 65536 };

static const uint64_t MAGIC = UINT64_C(0x6a736677736872);

typedef struct entry {
    uint64_t sector, sectors, flags, bytes; /* of the disk; bytes of data that follow */
} entry;

typedef struct replay {
    int log, disk;
    uint32_t sector_bytes, chance;
    uint64_t entries;
    size_t kept, lost, torn;
} replay;

static void die(const char *what)
{
    (void)fprintf(stderr, "replay: %s\n", what);
    exit(2);
}

static void read_at(int file, void *out, size_t bytes, uint64_t at)
{
    if (pread(file, out, bytes, (off_t)at) != (ssize_t)bytes)
        die("the log ends early");
}

static void begin(replay *r)
{
    uint8_t head[28];
    uint64_t magic, entries;
    read_at(r->log, head, sizeof head, 0);
    memcpy(&magic, head, 8);
    memcpy(&entries, head + 16, 8);
    memcpy(&r->sector_bytes, head + 24, 4);
    r->entries = le64toh(entries);
    r->sector_bytes = le32toh(r->sector_bytes);
    if (le64toh(magic) != MAGIC || r->sector_bytes < 512 ||
        r->sector_bytes > SECTOR_MAX || r->entries > ENTRIES_MAX)
        die("that is no log of writes");
}

/* @return where its data begin. *next: where the next entry does. */
static uint64_t read_entry(const replay *r, uint64_t at, entry *e, uint64_t *next)
{
    uint64_t raw[4];
    read_at(r->log, raw, sizeof raw, at);
    *e = (entry){le64toh(raw[0]), le64toh(raw[1]), le64toh(raw[2]), le64toh(raw[3])};
    const uint64_t data = at + r->sector_bytes;
    const bool has_data = !(e->flags & DISCARD);
    *next = data + (has_data ? e->sectors * r->sector_bytes : 0);
    return data;
}

static uint32_t roll(replay *r)
{
    r->chance = r->chance * 1664525U + 1013904223U;
    return r->chance >> 8;
}

static void write_sectors(const replay *r, uint64_t data, uint64_t sector,
                          uint64_t sectors)
{
    uint8_t buffer[SECTOR_MAX];
    for (uint64_t i = 0; i < sectors; i++) {
        read_at(r->log, buffer, r->sector_bytes, data + i * r->sector_bytes);
        if (pwrite(r->disk, buffer, r->sector_bytes,
                   (off_t)((sector + i) * r->sector_bytes)) != (ssize_t)r->sector_bytes)
            die("the disk cannot be written");
    }
}

/* A write that no flush has followed: whole, not at all, or, one in eight, in part. */
static void write_by_chance(replay *r, uint64_t data, const entry *e)
{
    const uint32_t cast = roll(r) % 8;
    uint64_t sectors = e->sectors;
    if (cast == 0 && sectors > 1) {
        sectors = 1 + roll(r) % (uint32_t)(sectors - 1);
        r->torn++;
    } else if (cast < 4) {
        r->lost++;
        return;
    } else {
        r->kept++;
    }
    write_sectors(r, data, e->sector, sectors);
}

int main(int argc, char **argv)
{
    if (argc != 4)
        die("replay LOG DISK CHANCE");
    replay r = {.log = open(argv[1], O_RDONLY),
                .disk = open(argv[2], O_WRONLY),
                .chance = (uint32_t)strtoul(argv[3], NULL, 10)};
    if (r.log < 0 || r.disk < 0)
        die("a file cannot be opened");
    begin(&r);
    entry e;
    uint64_t flushed = 0, at = r.sector_bytes, next = at;
    for (uint64_t i = 0; i < r.entries; i++, at = next) {
        (void)read_entry(&r, at, &e, &next);
        flushed = e.flags & FLUSH ? i + 1 : flushed;
    }
    at = r.sector_bytes;
    for (uint64_t i = 0; i < r.entries; i++, at = next) {
        const uint64_t data = read_entry(&r, at, &e, &next);
        if (e.flags & DISCARD || e.sectors == 0)
            continue;
        if (i < flushed || e.flags & FUA)
            write_sectors(&r, data, e.sector, e.sectors);
        else
            write_by_chance(&r, data, &e);
    }
    (void)printf("%" PRIu64
                 " writes; after the last flush: %zu kept, %zu lost, %zu torn\n",
                 r.entries, r.kept, r.lost, r.torn);
    return close(r.disk) == 0 ? 0 : 1;
}
