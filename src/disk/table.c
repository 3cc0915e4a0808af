#include "disk/table.h"

#include <assert.h>
#include <errno.h>
#include <string.h>

static const struct mos_table_driver *const drivers[] = {&mos_table_gpt, &mos_table_mbr};

const struct mos_table_driver *mos_table_at(size_t index) {
    return index < sizeof drivers / sizeof *drivers ? drivers[index] : NULL;
}

const struct mos_table_driver *mos_table_find(const char *name) {
    const struct mos_table_driver *d;
    for (size_t i = 0; (d = mos_table_at(i)); i++)
        if (strcmp(d->name, name) == 0)
            return d;
    return NULL;
}

const struct mos_table_driver *mos_table_read(struct mos_io *io, struct mos_arena *arena,
                                              struct mos_table_data *out,
                                              struct mos_vec *problems) {
    const struct mos_table_driver *d, *first = NULL;
    for (size_t i = 0; (d = mos_table_at(i)); i++) {
        struct mos_table_data table;
        if (!d->read(io, arena, &table, problems) || (first && !table.partitions.count))
            continue;
        first = d;
        *out = table;
        if (!table.unseen)
            break;
    }
    return first;
}

int mos_table_write(const struct mos_table_driver *driver, struct mos_io *io,
                    const struct mos_table_data *table, struct mos_arena *arena, const char **why) {
    assert(driver->write && driver->read);
    struct mos_table_data again;
    struct mos_vec problems = mos_vec_make(arena, sizeof(char *));
    int e = driver->write(io, table);
    if (e || !table->partitions.count)
        return e;
    if (!driver->read(io, arena, &again, &problems)) {
        *why = problems.count ? mos_vec_pointer(&problems, 0) : "It is no table.";
        return ENOTSUP;
    }
    for (size_t i = 0; i < table->partitions.count; i++) {
        const struct mos_partition *p = mos_vec_at(&table->partitions, i),
                                   *q = mos_table_partition(&again, p->number);
        if (q && q->first_lba == p->first_lba && q->last_lba == p->last_lba &&
            q->bootable == p->bootable && memcmp(q->type, p->type, sizeof p->type) == 0 &&
            (!driver->longest_name || memcmp(q->id, p->id, sizeof p->id) == 0))
            continue;
        *why = mos_printf(arena, "Partition %u would be %s.", p->number,
                          q ? "another one than in the layout" : "missing");
        return ENOTSUP;
    }
    return 0;
}
