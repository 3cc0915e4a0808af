/* What is in a disk image: its table, regions, file systems, and what lies outside of partitions.
 */
#include "api/run.h"

#include "base/bytes.h"
#include "base/text.h"
#include "boot/legacy.h"
#include "disk/table.h"
#include "linux/image.h"

#include <stdlib.h>
#include <string.h>

enum { STEP = 4096, LOOK = 64 << 10, MOST_OUTSIDE = 64, GAP = 4 };

struct inspector {
    mosaicum *m;
    struct mos_io io;
    int file;
    struct mos_vec problems; /* of const char * */
    struct report_table t;
    size_t outside;
};

static const struct mosaicum_column columns[] = {
    {"number", "no.", true}, {"start", "start", true},  {"size", "size", true},
    {"name", "name", false}, {"holds", "holds", false}, {"label", "label", false},
    {"id", "id", false},     {"free", "free", true},    {"contains", "contains", false},
};
enum { COLUMNS = sizeof columns / sizeof *columns };

static const char *joined(mosaicum *m, const struct mos_vec *names) {
    struct mos_buf b = {.arena = m->arena};
    for (size_t i = 0; i < names->count && i < 6; i++)
        mos_buf_printf(&b, "%s%s", i ? ", " : "", (const char *)mos_vec_pointer(names, i));
    if (names->count > 6)
        mos_buf_printf(&b, " and %zu more", names->count - 6);
    return names->count ? mos_buf_string(&b) : NULL;
}

/* ---- content without a file system ---- */

/* An environment block: its length is not stored, so the usual ones are tried. */
static const char *environment_at(struct inspector *x, uint64_t offset, uint64_t length) {
    for (uint64_t size = 4096; size <= (256 << 10) && size <= length; size *= 2) {
        struct mos_map variables;
        bool flag;
        uint8_t *data = mos_alloc(x->m->arena, (size_t)size);
        if (mos_io_read(&x->io, data, (size_t)size, offset))
            return NULL;
        if (mos_environment_read(x->m->arena, data, (size_t)size, &variables, &flag))
            return mos_printf(x->m->arena, "environment, %zu variables in %s%s", variables.count,
                              mos_size_text(x->m->arena, size), flag ? ", flag byte" : "");
    }
    return NULL;
}

/* What begins at an offset, by its first bytes; NULL: cannot be told. */
static const char *content_at(struct inspector *x, uint64_t offset, uint64_t length) {
    uint8_t *head = mos_alloc(x->m->arena, LOOK);
    size_t n = (size_t)mos_min(LOOK, length);
    struct mos_kernel_header header;
    struct mos_legacy legacy;
    const char *problem;
    if (mos_io_read(&x->io, head, n, offset))
        return "(unreadable)";
    if (mos_legacy_is(head, n)) {
        bool good = mos_legacy_read(head, MOS_LEGACY_HEADER, &legacy, &problem);
        return mos_printf(x->m->arena, "legacy file \"%s\"%s%s", good ? legacy.name : "",
                          good ? "" : ", damaged: ", good ? "" : problem);
    }
    if (mos_dt_is_blob(head, n))
        return "device-tree blob";
    const char *environment = environment_at(x, offset, length);
    if (environment)
        return environment;
    if (mos_kernel_read(head, n, length, &header))
        return header.format;
    return NULL;
}

static void empty_cells(struct inspector *x, size_t count) {
    while (count--)
        cell_text(&x->t, NULL);
}

static void outside_row(struct inspector *x, uint64_t start, uint64_t end, uint64_t limit) {
    const char *what = content_at(x, start, limit - start);
    if (x->outside++ >= MOST_OUTSIDE)
        return;
    cell_text(&x->t, NULL);
    cell_size(&x->t, start);
    cell_about(&x->t, end - start);
    cell_text(&x->t, NULL);
    cell_text(&x->t, what ? what : "data");
    empty_cells(x, COLUMNS - 5);
}

static bool zero(const uint8_t *p, size_t n) {
    return p[0] == 0 && memcmp(p, p + 1, n - 1) == 0;
}

/* Finds what is not zero between partitions: stretches of blocks with small gaps left in. */
static void look_between(struct inspector *x, uint64_t from, uint64_t to) {
    const struct mos_host *h = x->m->ctx.host;
    uint8_t block[STEP];
    uint64_t start = 0, end = 0; /* of the stretch so far; none while equal */
    for (uint64_t at = mos_round_down(from, STEP); at < to;) {
        uint64_t data, hole;
        if (h->next_data(h, x->file, at, &data, &hole) || data >= to)
            break;
        for (at = mos_max(at, mos_round_down(data, STEP)); at < to && at < hole; at += STEP) {
            size_t n = (size_t)mos_min(STEP, to - at);
            if (mos_io_read(&x->io, block, n, at))
                return;
            size_t skip = at < from ? (size_t)(from - at) : 0;
            if (skip >= n || zero(block + skip, n - skip))
                continue;
            if (end > start && at > end + GAP * STEP) {
                outside_row(x, start, end, to);
                start = end;
            }
            if (end == start)
                start = at + skip;
            end = at + n;
        }
    }
    if (end > start)
        outside_row(x, start, mos_min(end, to), to);
}

/* ---- partitions ---- */

static void volume_cells(struct inspector *x, const struct mos_volume_info *v) {
    cell_text(&x->t, v->kind);
    cell_text(&x->t, v->damaged ? "(damaged)" : v->label);
    cell_text(&x->t, v->id);
    if (v->damaged) {
        empty_cells(x, 2);
        mos_vec_push_pointer(&x->problems, v->problem);
        return;
    }
    cell_about(&x->t, v->free);
    const char *names = joined(x->m, &v->names);
    cell_text(&x->t, names ? names
                     : v->files
                         ? mos_printf(x->m->arena, "%llu inodes used", (unsigned long long)v->files)
                         : NULL);
}

static void partition_row(struct inspector *x, const struct mos_table_driver *driver,
                          const struct mos_table_data *table, const struct mos_partition *p) {
    uint64_t start = p->first_lba * table->sector;
    uint64_t length = (p->last_lba - p->first_lba + 1) * table->sector;
    struct mos_volume_info v = {0};
    cell_number(&x->t, p->number);
    cell_size(&x->t, start);
    cell_size(&x->t, length);
    cell_text(&x->t, mos_printf(x->m->arena, "%s%s", p->name, p->bootable ? " *" : ""));
    struct mos_io window = mos_io_window(x->m->arena, &x->io, start, length);
    if (mos_fs_probe(&window, x->m->arena, &v)) {
        volume_cells(x, &v);
        return;
    }
    const char *what = content_at(x, start, length);
    const char *type = driver->type_name(p->type);
    cell_text(&x->t, what ? what : type ? mos_printf(x->m->arena, "(%s)", type) : "(unknown)");
    empty_cells(x, COLUMNS - 5);
}

static int by_start(const void *a, const void *b) {
    const struct mos_partition *x = a, *y = b;
    return (x->first_lba > y->first_lba) - (x->first_lba < y->first_lba);
}

static void show_table(struct inspector *x, const struct mos_table_driver *driver,
                       struct mos_table_data *table) {
    char id[37];
    static const uint8_t none[12];
    mos_uuid_text(table->id, id);
    if (memcmp(table->id + 4, none, sizeof none) == 0) /* a short signature */
        id[8] = 0;
    x->t = report_start(
        x->m, "regions",
        mos_printf(x->m->arena, "%s of %u entries, disk %s, %s, sectors of %u bytes", driver->title,
                   table->entries, id, mos_size_text(x->m->arena, x->io.size), table->sector),
        columns, COLUMNS);
    if (table->partitions.count)
        qsort(table->partitions.items, table->partitions.count, sizeof(struct mos_partition),
              by_start);
    struct mos_table_span spans[8];
    size_t count = driver->spans(table->sector, x->io.size, table->entries, spans, 8);
    uint64_t at = 0, end = x->io.size;
    for (size_t i = 0; i < count; i++)
        if (spans[i].start < x->io.size / 2)
            at = mos_max(at, spans[i].end);
        else
            end = mos_min(end, spans[i].start);
    for (size_t i = 0; i < table->partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&table->partitions, i);
        uint64_t start = mos_min(p->first_lba * table->sector, end);
        if (start > at)
            look_between(x, at, start);
        partition_row(x, driver, table, p);
        at = mos_max(at, mos_min((p->last_lba + 1) * table->sector, end));
    }
    if (at < end)
        look_between(x, at, end);
    report_end(x->m, &x->t);
}

/* ---- an image without a table: a volume, or raw content ---- */

static void show_whole(struct inspector *x) {
    struct mos_volume_info v;
    x->t = report_start(
        x->m, "regions",
        mos_printf(x->m->arena, "No partition table, %s", mos_size_text(x->m->arena, x->io.size)),
        columns, COLUMNS);
    if (mos_fs_probe(&x->io, x->m->arena, &v)) {
        empty_cells(x, 1);
        cell_size(&x->t, 0);
        cell_size(&x->t, v.size);
        cell_text(&x->t, NULL);
        volume_cells(x, &v);
    } else {
        look_between(x, 0, x->io.size);
    }
    report_end(x->m, &x->t);
}

static void inspect(struct inspector *x) {
    const struct mos_table_driver *d;
    struct mos_table_data table;
    for (size_t i = 0; (d = mos_table_at(i)); i++)
        if (d->read(&x->io, x->m->arena, &table, &x->problems)) {
            show_table(x, d, &table);
            break;
        }
    if (!d)
        show_whole(x);
    if (!x->problems.count)
        return;
    static const struct mosaicum_column problem_columns[] = {{"problem", "problem", false}};
    struct report_table t =
        report_start(x->m, "problems", "Something is wrong here", problem_columns, 1);
    for (size_t i = 0; i < x->problems.count; i++)
        cell_text(&t, mos_vec_pointer(&x->problems, i));
    report_end(x->m, &t);
}

bool inspect_image(mosaicum *m, const char *path) {
    const struct mos_host *h = m->ctx.host;
    struct mos_file_info info;
    struct inspector x = {.m = m, .problems = mos_vec_make(m->arena, sizeof(char *))};
    int e = h->open(h, path, MOS_OPEN_READ, &x.file);
    if (e)
        return mos_fail(&m->error, MOS_ERROR_USAGE, e, "Cannot open %s", path);
    e = h->file_info(h, x.file, &info);
    if (!e && info.kind == MOS_FILE_FOLDER) {
        h->close(h, x.file);
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s is a folder, not an image", path);
    }
    x.io = mos_io_file(m->arena, h, x.file, info.size);
    if (!e)
        inspect(&x);
    h->close(h, x.file);
    m->damaged = x.problems.count != 0;
    return e ? mos_fail(&m->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path) : !m->damaged;
}
