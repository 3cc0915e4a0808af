/* `show drivers`: who serves each node of the tree. */
#include "api/run.h"

#include "plan/drivers.h"

#include <string.h>

static const char *const served_words[] = {"built in",        "module, ramdisk", "module, root",
                                           "module, nowhere", "named in code",   "not built",
                                           "no driver",       "not known"};

struct driver_rows {
    mosaicum *m;
    struct report_table *t;
    const struct mos_drivers *d;
    size_t counts[sizeof served_words / sizeof *served_words];
};

/* Where a module is not is known only of a root that was looked at. */
static const char *word_of(const struct mos_drivers *d, size_t served) {
    return served == MOS_SERVED_MODULE && !d->has_root ? "module" : served_words[served];
}

static bool driver_row(void *self, struct mos_dt_node *n) {
    struct driver_rows *x = self;
    if (!mos_plan_wants_driver(n))
        return true;
    const struct mos_driver d = mos_plan_driver_of(x->d, n);
    const char *word = word_of(x->d, d.served);
    x->counts[d.served]++;
    cell_text(x->t, mos_dt_path(x->m->arena, n));
    cell_text(x->t, d.compatible ? d.compatible : mos_dt_string(n, "compatible"));
    if (d.served == MOS_SERVED_OFF || d.served == MOS_SERVED_BY_NONE)
        cell_alarm(x->t, word);
    else
        cell_text(x->t, word);
    const char *slash = d.module ? strrchr(d.module, '/') : NULL;
    cell_text(x->t, slash ? slash + 1 : d.module ? d.module : d.file);
    cell_text(x->t, d.symbol ? mos_printf(x->m->arena, "%s%s%s", d.symbol, d.value ? "=" : "",
                                          d.value ? d.value : "")
                             : NULL);
    return true;
}

/* "Drivers of 41 devices: 33 built in; 8 no driver" */
static const char *title_of(const struct driver_rows *x) {
    struct mos_buf b = {.arena = x->m->arena};
    size_t all = 0;
    const char *between = "";
    for (size_t i = 0; i < sizeof x->counts / sizeof *x->counts; i++)
        all += x->counts[i];
    mos_buf_printf(&b, "Drivers of %zu device%s: ", all, all == 1 ? "" : "s");
    for (size_t i = 0; i < sizeof x->counts / sizeof *x->counts; i++) {
        if (x->counts[i])
            mos_buf_printf(&b, "%s%zu %s", between, x->counts[i], word_of(x->d, i));
        between = x->counts[i] ? "; " : between;
    }
    return mos_buf_string(&b);
}

void show_drivers(mosaicum *m, const struct mos_plan *plan) {
    static const struct mosaicum_column columns[] = {{"node", "node", false},
                                                     {"compatible", "compatible", false},
                                                     {"served", "served by", false},
                                                     {"driver", "driver", false},
                                                     {"symbol", "symbol", false}};
    const struct mos_drivers *d = mos_plan_drivers(plan->self);
    const struct mos_blob_plan *b = d ? d->entry->tree : NULL;
    if (!b || !b->tree) {
        report_text(&m->report, "drivers", NULL,
                    "No entry has a tree whose nodes could be looked at.\n");
        return;
    }
    struct report_table t = report_start(&m->report, "drivers", NULL, columns, 5);
    struct driver_rows x = {m, &t, d};
    mos_dt_walk(b->tree->root, driver_row, &x);
    t.table.title = title_of(&x);
    report_end(&m->report, &t);
    const char *sources = "the sources: not there";
    if (d->build)
        sources = mos_printf(
            m->arena, "the sources: %zu match text%s in %zu file%s%s", d->build->drivers.count,
            d->build->drivers.count == 1 ? "" : "s", d->build->files.count,
            d->build->files.count == 1 ? "" : "s",
            d->build->lost ? mos_printf(m->arena, "; %zu could not be read", d->build->lost) : "");
    const char *kernel = !d->inside ? "the kernel: not there"
                         : d->has_match
                             ? mos_printf(m->arena, "the kernel: %zu texts in match tables",
                                          d->inside->match.tables.count)
                             : "the kernel: no match tables are found in it";
    report_text(
        &m->report, "looked", "Looked at",
        mos_printf(
            m->arena, "%s\n%s\n%s\n%s\n", kernel,
            !d->has_ramdisk ? "the ramdisk: its modules are not known"
            : !d->entry->ramdisk
                ? "the ramdisk: there is none"
                : mos_printf(m->arena, "the ramdisk: %zu names of modules and what they answer to",
                             d->ramdisk.count),
            d->has_root
                ? mos_printf(m->arena, "the root: %zu names of modules and what they answer to",
                             d->root.count)
                : "the root: its modules are not known",
            sources));
}
