/* What is in a disk image: its table, regions, file systems, and what lies outside of partitions.
 */
#include "api/survey.h"

#include "base/text.h"

#include <string.h>

static const struct mosaicum_column columns[] = {
    {"number", "no.", true}, {"start", "start", true},        {"size", "size", true},
    {"name", "name", false}, {"holds", "holds", false},       {"label", "label", false},
    {"free", "free", true},  {"contains", "contains", false}, {"partition-id", "PARTUUID", false},
    {"id", "UUID", false},
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

static void empty_cells(struct report_table *t, size_t count) {
    while (count--)
        cell_text(t, NULL);
}

static void volume_cells(struct survey *s, struct report_table *t, const struct survey_span *x) {
    const struct mos_volume_info *v = &x->volume;
    cell_text(t, v->kind);
    cell_text(t, v->damaged   ? "(damaged)"
                 : v->pending ? mos_printf(s->m->arena, "%s (not unmounted)", v->label)
                              : v->label);
    if (v->damaged) {
        empty_cells(t, 2);
        return;
    }
    if (v->free || (v->driver && v->driver->edit))
        cell_about(t, v->free);
    else
        cell_text(t, NULL);
    const char *names = x->contains ? x->contains : joined(s->m, &v->names);
    cell_text(t, names ? names
                 : v->files
                     ? mos_printf(s->m->arena, "%llu inodes used", (unsigned long long)v->files)
                     : NULL);
}

/* What root= may name, by the words of Linux: the partition, and what lies in it. */
static void id_cells(struct survey *s, struct report_table *t, const struct survey_span *x) {
    char text[40];
    if (x->partition) {
        s->driver->partition_id(s->table.id, x->partition->number, x->partition->id, text);
        cell_text(t, mos_strdup(s->m->arena, text));
    } else {
        cell_text(t, NULL);
    }
    cell_text(t, x->has_volume ? x->volume.id : NULL);
}

static void span_row(struct survey *s, struct report_table *t, const struct survey_span *x) {
    const struct mos_partition *p = x->partition;
    if (x->held) {
        cell_text(t,
                  mos_printf(s->m->arena, "%s %u", x->part ? "part" : "volume", x->held->number));
        if (x->part)
            cell_size(t, x->start);
        else
            cell_text(t, NULL);
        cell_size(t, x->length);
        cell_text(t, x->held->name);
    } else if (p) {
        cell_number(t, p->number);
        cell_size(t, x->start);
        cell_size(t, x->length);
        cell_text(t, mos_printf(s->m->arena, "%s%s", p->name, p->bootable ? " *" : ""));
    } else {
        cell_text(t, NULL);
        cell_size(t, x->start);
        if (x->has_volume || x->region)
            cell_size(t, x->length);
        else
            cell_about(t, x->length);
        cell_text(t, x->region);
    }
    if (x->has_volume) {
        volume_cells(s, t, x);
    } else {
        const char *type = p ? s->driver->type_name(p->type) : NULL;
        const char *what = type ? mos_printf(s->m->arena, "(%s)", type) : "(unknown)";
        cell_text(t, x->what ? x->what : what);
        empty_cells(t, 2);
        cell_text(t, x->contains);
    }
    id_cells(s, t, x);
}

static const char *title(struct survey *s) {
    static const uint8_t none[12];
    char id[37];
    const char *packed =
        s->image.compression
            ? mos_printf(s->m->arena, " (%s of %s)", mos_size_about(s->m->arena, s->image.stored),
                         s->image.compression)
            : "";
    if (!s->driver)
        return mos_printf(s->m->arena, "No partition table, %s%s%s",
                          mos_size_text(s->m->arena, s->io.size), packed,
                          s->by_ledger ? ", regions as ledger.json beside it names them" : "");
    mos_uuid_text(s->table.id, id);
    if (memcmp(s->table.id + 4, none, sizeof none) == 0) /* a short signature */
        id[8] = 0;
    return mos_printf(s->m->arena, "%s of %u entries, disk %s, %s%s, sectors of %u bytes",
                      s->driver->title, s->table.entries, id,
                      mos_size_text(s->m->arena, s->io.size), packed, s->table.sector);
}

bool inspect_image(mosaicum *m, const char *path, bool files) {
    struct survey s;
    if (!survey_open(m, path, &s))
        return false;
    struct report_table t = report_start(&m->report, "regions", title(&s), columns, COLUMNS);
    for (size_t i = 0; i < s.spans.count; i++) {
        const struct survey_span *x = mos_vec_at(&s.spans, i);
        span_row(&s, &t, x);
        for (size_t k = 0; k < x->held_count; k++)
            span_row(&s, &t, mos_vec_at(&s.held, x->held_from + k));
    }
    report_end(&m->report, &t);
    if (files)
        inspect_files(&s);
    survey_report_problems(&s);
    survey_close(&s);
    return !m->damaged;
}
