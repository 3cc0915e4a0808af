/* Commands that read media: load, ls, part, mmc, sf and their kin. */
#include "loaders/u-boot/inside.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { SECTOR = 512 };

/* ---- which device, which partition ---- */

static const char *until(struct sim *s, const char *text, char c) {
    const char *end = strchr(text, c);
    return mos_strndup(s->arena, text, end ? (size_t)(end - text) : strlen(text));
}

/* "mmc", "0:1" → the disk; complains as the loader does. */
static struct sim_disk *disk_named(struct sim *s, const char *kind, const char *place) {
    const char *number = until(s, place, ':');
    struct sim_disk *d = sim_disk(s, kind, number);
    if (!d)
        sim_trouble(s, "** Bad device specification %s %s **", kind, number);
    return d;
}

/* "0#name": by the partition's name. */
static struct sim_volume *volume_by_name(struct sim *s, const char *kind, const char *place) {
    const char *mark = strchr(place, '#');
    struct sim_disk *d = sim_disk(s, kind, until(s, place, '#'));
    for (size_t i = 0; d && i < d->table.partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&d->table.partitions, i);
        if (strcmp(p->name, mark + 1) == 0)
            return sim_volume(s, d, p->number);
    }
    if (d)
        sim_trouble(s, "Could not find \"%s\" partition", mark + 1);
    sim_trouble(s, "** Bad device specification %s %s **", kind, place);
    sim_trouble(s, "** Bad device specification %s %s **", kind, place);
    return NULL;
}

/* ":auto" is the first that is marked bootable, or the first there is. */
static unsigned automatic(const struct sim_disk *d) {
    const struct mos_partition *first = NULL;
    for (size_t i = 0; i < d->table.partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&d->table.partitions, i);
        if (p->bootable && !(first && first->bootable))
            first = p;
        first = first ? first : p;
    }
    return first ? first->number : 0;
}

/* What stands behind the colon; "0:0" is the whole device. */
static struct sim_volume *volume_numbered(struct sim *s, struct sim_disk *d, const char *kind,
                                          const char *place, const char *number) {
    const char *end;
    unsigned partition = (unsigned)sim_number(number, &end, 16);
    if (strcmp(number, "auto") == 0) {
        partition = automatic(d);
    } else if (*end || *number == '-') {
        sim_trouble(s, "** Bad partition specification %s %s **", kind, place);
        return NULL;
    } else if (*number && !partition) {
        return sim_whole(s, d);
    }
    struct sim_volume *v = sim_volume(s, d, partition);
    if (!v->is_there)
        sim_trouble(s, "** Invalid partition %u **", partition);
    return v->is_there ? v : NULL;
}

static struct sim_volume *volume_named(struct sim *s, const char *kind, const char *place) {
    const char *colon = strchr(place, ':');
    struct sim_disk *d = NULL;
    struct sim_volume *v = NULL;
    if (strchr(place, '#') && !colon)
        v = volume_by_name(s, kind, place);
    else if ((d = disk_named(s, kind, place)))
        v = volume_numbered(s, d, kind, place, colon ? colon + 1 : "");
    if (!v)
        sim_trouble(s, "Couldn't find partition %s %s", kind, place);
    return v;
}

/* A volume whose files can be read; `only` is the file system that the command asks for.  place
 * NULL: nothing was said. */
static struct sim_volume *files_of(struct sim *s, const char *kind, const char *place,
                                   const char *only) {
    if (!place || !*place || strcmp(place, "-") == 0)
        place = sim_get(s, "bootdevice");
    if (!place) {
        sim_trouble(s, "** No device specified **");
        sim_trouble(s, "Couldn't find partition %s <NULL>", kind);
        return NULL;
    }
    struct sim_volume *v = volume_named(s, kind, place);
    const struct mos_fs_loader *reads = v ? sim_loader_reads(s, v) : NULL;
    if (reads && (!only || strcmp(reads->word, only) == 0))
        return v;
    if (v && !only && v->partition)
        sim_trouble(s, "** Unrecognized filesystem type **");
    return NULL;
}

/* ---- load ---- */

/* argv: kind, place, [address, [file, [bytes, [position]]]] */
static int load(struct sim *s, int argc, const char *const *argv, const char *only) {
    uint64_t at = 0, bytes = 0, from = 0;
    const char *name = argc > 3 ? argv[3] : sim_get(s, "bootfile");
    const char *usual = sim_get(s, "loadaddr");
    if (argc < 1)
        return -1;
    if (argc > 2 ? !sim_address(argv[2], &at) : usual && !sim_address(usual, &at))
        return -1;
    if (argc > 4)
        bytes = sim_number(argv[4], NULL, 16);
    if (argc > 5)
        from = sim_number(argv[5], NULL, 16);
    struct sim_volume *v = files_of(s, argv[0], argc > 1 ? argv[1] : NULL, only);
    if (!v)
        return sim_trouble(s, "Can't set block device");
    if (!name)
        return sim_trouble(s, "** No boot file defined **");
    const struct sim_file *f = sim_file(s, v, name);
    if (!f || f->type != MOS_ENTRY_FILE)
        return sim_trouble(s, "Failed to load '%s'", name);
    uint64_t length = f->size > from ? f->size - from : 0;
    if (bytes)
        length = mos_min(length, bytes);
    enum sim_loaded loaded = sim_load(s, v, f, from, length, bytes ? bytes : length, at);
    if (loaded == SIM_NO_ROOM)
        sim_trouble(s, "** Reading file would overwrite reserved memory **");
    if (loaded != SIM_LOADED)
        return sim_trouble(s, "Failed to load '%s'", name);
    sim_print(s, "%llu bytes read in 0 ms\n", (unsigned long long)length);
    sim_set_number(s, "fileaddr", at);
    sim_set_number(s, "filesize", length);
    return 0;
}

static int run_load(struct sim *s, int argc, const char *const *argv) {
    return argc < 2 ? -1 : load(s, argc - 1, argv + 1, NULL);
}

static int run_fatload(struct sim *s, int argc, const char *const *argv) {
    return argc < 2 ? -1 : load(s, argc - 1, argv + 1, "fat");
}

static int run_extload(struct sim *s, int argc, const char *const *argv) {
    return argc < 2 ? -1 : load(s, argc - 1, argv + 1, "ext4");
}

static int size_of(struct sim *s, int argc, const char *const *argv, const char *only) {
    if (argc != 4)
        return -1;
    struct sim_volume *v = files_of(s, argv[1], argv[2], only);
    const struct sim_file *f = v ? sim_file(s, v, argv[3]) : NULL;
    if (!f || f->type != MOS_ENTRY_FILE)
        return 1;
    sim_set_number(s, "filesize", f->size);
    return 0;
}

static int run_size(struct sim *s, int argc, const char *const *argv) {
    return size_of(s, argc, argv, NULL);
}
static int run_fatsize(struct sim *s, int argc, const char *const *argv) {
    return size_of(s, argc, argv, "fat");
}
static int run_extsize(struct sim *s, int argc, const char *const *argv) {
    return size_of(s, argc, argv, "ext4");
}

/* ---- ls ---- */

static void list_row(struct sim *s, const struct sim_file *f, bool marks, const char *name,
                     unsigned *files, unsigned *folders) {
    bool folder = f->type == MOS_ENTRY_FOLDER;
    bool link = f->type == MOS_ENTRY_LINK;
    uint64_t size = folder ? 4096 : link && f->target ? strlen(f->target) : f->size;
    *folders += folder;
    *files += !folder;
    if (marks)
        sim_print(s, "%s%10llu %s\n",
                  folder ? "<DIR> "
                  : link ? "<SYM> "
                         : "      ",
                  (unsigned long long)size, name);
    else if (folder)
        sim_print(s, "            %s/\n", name);
    else
        sim_print(s, " %8llu   %s\n", (unsigned long long)f->size, name);
}

static int list(struct sim *s, int argc, const char *const *argv, const char *only) {
    unsigned files = 0, folders = 0;
    if (argc < 2 || argc > 4)
        return -1;
    struct sim_volume *v = files_of(s, argv[1], argc > 2 ? argv[2] : NULL, only);
    const struct sim_file *folder = v ? sim_file(s, v, argc > 3 ? argv[3] : "/") : NULL;
    bool marks = v && mos_dialect_reads(s->dialect, v->info.driver)->marks_kinds;
    if (marks && !folder)
        return sim_trouble(s, "** Can not find directory. **");
    if (!folder || folder->type != MOS_ENTRY_FOLDER)
        return 1;
    size_t n = strlen(folder->path);
    if (marks) {
        sim_print(s, "<DIR>       4096 .\n<DIR>       4096 ..\n");
    } else if (n) {
        sim_print(s, "            ./\n            ../\n");
        folders = 2;
    }
    sim_volume_list(s, v);
    for (size_t i = 0; i < v->files.count; i++) {
        const char *path = v->files.items[i].key;
        if (!*path || strncmp(path, folder->path, n) != 0 || (n && path[n] != '/') ||
            strchr(path + n + (n != 0), '/'))
            continue;
        list_row(s, v->files.items[i].value, marks, path + n + (n != 0), &files, &folders);
    }
    if (!marks)
        sim_print(s, "\n%u file(s), %u dir(s)\n\n", files, folders);
    return 0;
}

static int run_ls(struct sim *s, int argc, const char *const *argv) {
    return list(s, argc, argv, NULL);
}
static int run_fatls(struct sim *s, int argc, const char *const *argv) {
    return list(s, argc, argv, "fat");
}
static int run_extls(struct sim *s, int argc, const char *const *argv) {
    return list(s, argc, argv, "ext4");
}

static int run_fstype(struct sim *s, int argc, const char *const *argv) {
    if (argc < 3 || argc > 4)
        return -1;
    struct sim_volume *v = volume_named(s, argv[1], argv[2]);
    if (!v)
        return 1;
    const struct mos_fs_loader *reads = sim_loader_reads(s, v);
    if (!reads)
        return v->partition ? sim_trouble(s, "** Unrecognized filesystem type **") : 1;
    const char *kind = reads->word;
    if (argc == 4)
        sim_set(s, argv[3], kind);
    else
        sim_print(s, "%s\n", kind);
    return 0;
}

/* ---- part ---- */

static int tell(struct sim *s, const char *variable, const char *value) {
    if (variable)
        sim_set(s, variable, value);
    else
        sim_print(s, "%s\n", value);
    return 0;
}

static int part_uuid(struct sim *s, int argc, const char *const *argv) {
    char id[40];
    if (argc < 4 || argc > 5)
        return -1;
    struct sim_disk *d = disk_named(s, argv[2], argv[3]);
    const char *colon = strchr(argv[3], ':');
    if (!d)
        return 1;
    unsigned number = colon ? (unsigned)sim_number(colon + 1, NULL, 16) : 1;
    struct sim_volume *v = sim_volume(s, d, number);
    if (!v->entry)
        return sim_trouble(s, "** Invalid partition %u **", number);
    d->driver->partition_id(d->table.id, number, v->entry->id, id);
    return tell(s, argc > 4 ? argv[4] : NULL, id);
}

static bool marked(const struct mos_partition *p) {
    return p->bootable || p->attributes >> 2 & 1;
}

static int part_list(struct sim *s, int argc, const char *const *argv) {
    struct mos_buf numbers = {.arena = s->arena};
    if (argc < 4)
        return -1;
    bool boot = argc > 4 && strcmp(argv[4], "-bootable") == 0;
    const char *variable = argc > 4 + boot ? argv[4 + boot] : NULL;
    size_t shown = s->console->length;
    struct sim_disk *d = disk_named(s, argv[2], argv[3]);
    if (!d)
        s->console->length = shown; /* the loader says nothing here */
    if (boot && !variable)
        return -1;
    if (!d)
        return 1;
    for (unsigned n = 1; n <= 128 && d->driver; n++)
        for (size_t i = 0; i < d->table.partitions.count; i++) {
            const struct mos_partition *p = mos_vec_at(&d->table.partitions, i);
            if (p->number == n && (!boot || marked(p)))
                mos_buf_printf(&numbers, "%s%x", numbers.length ? " " : "", n);
        }
    if (variable)
        sim_set(s, variable, numbers.length ? mos_buf_string(&numbers) : NULL);
    else
        sim_print(s, "partitions: %s\n", mos_buf_string(&numbers));
    return 0;
}

/* start, size and number of a partition that is named by number or name. */
static int part_fact(struct sim *s, int argc, const char *const *argv) {
    if (argc < 5 || argc > 6)
        return -1;
    struct sim_disk *d = disk_named(s, argv[2], argv[3]);
    if (!d)
        return 1;
    const char *end;
    unsigned number = (unsigned)sim_number(argv[4], &end, 10);
    bool by_name = *end || strcmp(argv[1], "number") == 0;
    for (size_t i = 0; d->driver && i < d->table.partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&d->table.partitions, i);
        if (by_name ? strcmp(p->name, argv[4]) != 0 : p->number != number)
            continue;
        uint64_t value = argv[1][0] == 'n'   ? p->number
                         : argv[1][1] == 't' ? p->first_lba
                                             : p->last_lba - p->first_lba + 1;
        return tell(
            s, argc > 5 ? argv[5] : NULL,
            mos_printf(s->arena, argv[1][0] == 'n' ? "0x%llx" : "%llx", (unsigned long long)value));
    }
    return 1;
}

static int run_part(struct sim *s, int argc, const char *const *argv) {
    if (argc < 2)
        return -1;
    if (strcmp(argv[1], "uuid") == 0)
        return part_uuid(s, argc, argv);
    if (strcmp(argv[1], "list") == 0)
        return part_list(s, argc, argv);
    if (strcmp(argv[1], "start") == 0 || strcmp(argv[1], "size") == 0 ||
        strcmp(argv[1], "number") == 0)
        return part_fact(s, argc, argv);
    return -1;
}

/* ---- whole devices ---- */

int ub_read_bytes(struct sim *s, struct sim_disk *d, uint64_t to, uint64_t from, uint64_t length) {
    uint8_t piece[65536];
    sim_charge(s, length);
    if (s->rig->ram.length && !sim_ram_free(s, to, length)) {
        sim_event(s, MOS_EVENT_OVER, to, length, NULL, "what is read would lie %s",
                  sim_ram_why(s, to, length));
        s->stop = SIM_HANGS; /* no command looks after that: the loader dies */
        return 1;
    }
    for (uint64_t done = 0; done < length;) {
        size_t n = (size_t)mos_min(sizeof piece, length - done);
        int e = mos_io_read(d->io, piece, n, from + done);
        if (e == ENODATA)
            sim_undecided(s, "what lies 0x%llx into %s: it is a volume that is not written yet",
                          (unsigned long long)(from + done), d->medium->name);
        if (e)
            return 1;
        sim_ram_write(s, to + done, piece, n);
        done += n;
    }
    const char *what = mos_printf(s->arena, "bytes at 0x%llx", (unsigned long long)from);
    sim_event(s, MOS_EVENT_READ, to, length, d->medium->name, "%s", what);
    sim_ram_claim(s, to, length, mos_printf(s->arena, "%s of %s", what, d->medium->name));
    struct mos_touched *t = mos_alloc(s->arena, sizeof *t);
    *t = (struct mos_touched){d->medium, 0, NULL, from, length, s->out->starts};
    mos_vec_push_pointer(&s->out->files, t);
    return 0;
}

const char *ub_current_number(struct sim *s, const char *kind) {
    const char *at = own(s)->current && strncmp(own(s)->current, kind, strlen(kind)) == 0
                         ? strchr(own(s)->current, ' ')
                         : NULL;
    return at ? at + 1 : "0";
}

static int block_read(struct sim *s, int argc, const char *const *argv) {
    uint64_t to, from, count;
    struct sim_disk *d = sim_disk(s, argv[0], ub_current_number(s, argv[0]));
    if (argc != 5 || !sim_address(argv[2], &to) || !sim_address(argv[3], &from) ||
        !sim_address(argv[4], &count))
        return -1;
    if (!d)
        return 1;
    sim_print(s, "\n%s read: device %s block # %llu, count %llu ... ", argv[0],
              ub_current_number(s, argv[0]), (unsigned long long)from, (unsigned long long)count);
    uint64_t end, bytes;
    bool good = mos_mul(count, SECTOR, &bytes) && mos_mul(from, SECTOR, &from) &&
                mos_add(from, bytes, &end) && end <= d->io->size &&
                ub_read_bytes(s, d, to, from, bytes) == 0;
    sim_print(s, good ? "%llu blocks read: OK\n" : "-5 blocks read: ERROR\n",
              (unsigned long long)count);
    if (!good)
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, d->medium->name, "%s read fails", argv[0]);
    return !good;
}

/* mmc, virtio, nvme, usb, scsi, sata */
static int run_device(struct sim *s, int argc, const char *const *argv) {
    if (argc < 2)
        return -1;
    const char *what = argv[1];
    if (strcmp(what, "read") == 0)
        return block_read(s, argc, argv);
    if (strcmp(what, "dev") == 0) {
        const char *number = argc > 2 ? argv[2] : ub_current_number(s, argv[0]);
        struct sim_disk *d = sim_disk(s, argv[0], number);
        if (!d) {
            sim_print(s, "\nDevice %s: unknown device\n", number);
            return 1;
        }
        own(s)->current = mos_printf(s->arena, "%s %s", argv[0], number);
        return 0;
    }
    if (strcmp(what, "scan") == 0 || strcmp(what, "rescan") == 0 || strcmp(what, "start") == 0 ||
        strcmp(what, "reset") == 0 || strcmp(what, "info") == 0 || strcmp(what, "part") == 0 ||
        strcmp(what, "list") == 0) {
        struct sim_disk *d = sim_disk(s, argv[0], ub_current_number(s, argv[0]));
        return !d && strcmp(what, "info") == 0;
    }
    sim_unknown(s, "what %s %s does", argv[0], what);
    return 0;
}

/* Nothing is on the network of a rehearsal. */
static int run_network(struct sim *s, int argc, const char *const *argv) {
    (void)argc;
    sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "%s: there is no network in a rehearsal", argv[0]);
    sim_print(s, "No ethernet found.\n");
    return 1;
}

/* EFI programs and the emulator's own firmware interface are not rehearsed. */
static int run_foreign(struct sim *s, int argc, const char *const *argv) {
    (void)argc;
    sim_unknown(s, "what %s would start", argv[0]);
    return 1;
}

const struct ub_command ub_commands_storage[] = {
    {"load", run_load, 7},        {"fatload", run_fatload, 7},
    {"ext4load", run_extload, 7}, {"ext2load", run_extload, 7},
    {"size", run_size, 0},        {"fatsize", run_fatsize, 0},
    {"ext4size", run_extsize, 0}, {"ls", run_ls, 4},
    {"fatls", run_fatls, 4},      {"ext4ls", run_extls, 4},
    {"ext2ls", run_extls, 4},     {"fstype", run_fstype, 4},
    {"part", run_part, 0},        {"mmc", run_device, 0},
    {"virtio", run_device, 0},    {"nvme", run_device, 0},
    {"usb", run_device, 0},       {"scsi", run_device, 0},
    {"sata", run_device, 0},      {"dhcp", run_network, 3},
    {"tftpboot", run_network, 0}, {"pxe", run_network, 0},
    {"bootp", run_network, 3},    {"nfs", run_network, 3},
    {"qfw", run_foreign, 0},      {"bootefi", run_foreign, 0},
    {"bootflow", run_foreign, 0}, {NULL, NULL, 0},
};
