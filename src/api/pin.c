/* mosaicum.pins: the hash of every piece's file. */
#include "api/run.h"

#include "base/text.h"
#include "plan/bytes.h"

#include <stdlib.h>
#include <string.h>

struct pin {
    const char *file, *was; /* NULL: new */
    const char *was_source; /* NULL: none was kept */
    const char *source;     /* of what it is derived from; NULL: nothing is stated */
    uint64_t size;
    char hex[65];
};

static bool is_pinned_here(const struct mos_piece_plan *p) {
    bool follows = mos_true(p->def->follow);
    return p->found && !p->made && !p->member && !p->def->made_by && !follows && !p->def->sha256;
}

static bool add_pins(mosaicum *m, struct run_task *t, struct mos_map *pins) {
    for (size_t i = 0; i < t->plan->pieces.count; i++) {
        struct mos_piece_plan *p = mos_vec_pointer(&t->plan->pieces, i);
        if (!is_pinned_here(p) || mos_map_get(pins, p->file))
            continue;
        if (!mos_plan_hash(t->plan, p))
            return mos_fail(&m->error, MOS_ERROR_SYSTEM, 0, "%s", t->error.message);
        struct pin *pin = mos_alloc(m->arena, sizeof *pin);
        pin->file = p->file;
        pin->size = p->file_size ? p->file_size : p->size;
        pin->was = p->pin && mos_has(p->pin->sha256) ? p->pin->sha256->text : NULL;
        mos_sha256_hex(p->sha256, pin->hex);
        pin->was_source = p->pin ? mos_text_or(p->pin->source, NULL) : NULL;
        pin->source = p->source              ? mos_strdup(m->arena, p->source)
                      : p->def->derived_from ? pin->was_source /* it is not there now */
                                             : NULL;
        mos_map_set(pins, pin->file, pin);
    }
    return true;
}

static int by_file(const void *a, const void *b) {
    return strcmp((*(struct pin *const *)a)->file, (*(struct pin *const *)b)->file);
}

/* Pins of files that no selected board uses stay as they are. */
static void keep_others(mosaicum *m, struct mos_map *pins) {
    const struct mos_pins *old = m->workspace->pins;
    for (size_t i = 0; old && i < old->pins.count; i++) {
        const struct mos_pin *x = old->pins.items[i];
        if (mos_map_get(pins, x->r.name) || !mos_has(x->sha256) || m->complete)
            continue;
        struct pin *pin = mos_alloc(m->arena, sizeof *pin);
        pin->file = x->r.name;
        pin->was = x->sha256->text;
        pin->size = mos_has(x->size) ? x->size->number : 0;
        pin->source = mos_text_or(x->source, NULL);
        memcpy(pin->hex, x->sha256->text, 65);
        mos_map_set(pins, pin->file, pin);
    }
}

static bool write_pins(mosaicum *m, struct pin **list, size_t count) {
    struct mos_buf text = {.arena = m->arena};
    mos_buf_text(&text, "mosaicum: 1\n# Written by mosaicum pin.\npins:");
    mos_buf_text(&text, count ? "\n" : " {}\n");
    for (size_t i = 0; i < count; i++) {
        mos_buf_text(&text, "  ");
        mos_yaml_scalar(&text, list[i]->file);
        mos_buf_printf(&text, ": {sha256: %s, size: %llu B%s%s}\n", list[i]->hex,
                       (unsigned long long)list[i]->size, list[i]->source ? ", source: " : "",
                       list[i]->source ? list[i]->source : "");
    }
    const char *path = mos_path_join(m->arena, m->options.workspace, "mosaicum.pins");
    return mos_write_file(&m->ctx, path, text.data, text.length);
}

static void report(mosaicum *m, struct pin **list, size_t count) {
    static const struct mosaicum_column columns[] = {{"file", "file", false},
                                                     {"size", "size", true},
                                                     {"sha256", "SHA-256", false},
                                                     {"state", "", false}};
    struct report_table t = report_start(&m->report, "pins", "Pinned in mosaicum.pins", columns, 4);
    for (size_t i = 0; i < count; i++) {
        cell_text(&t, list[i]->file);
        cell_about(&t, list[i]->size);
        cell_text(&t, list[i]->hex);
        bool same = list[i]->was && strcmp(list[i]->was, list[i]->hex) == 0,
             newer = same && list[i]->source && list[i]->was_source &&
                     strcmp(list[i]->source, list[i]->was_source) != 0;
        cell_text(&t, !list[i]->was ? "new"
                      : newer       ? "as before, though its source has changed"
                      : same        ? "as before"
                                    : "changed");
    }
    report_end(&m->report, &t);
}

static void pin(mosaicum *m, const struct mos_vec *all) {
    struct mos_map pins = mos_map_make(m->arena);
    for (size_t i = 0; i < all->count; i++) {
        struct run_task *t = run_one(m, mos_vec_at(all, i));
        struct mos_board *board = mos_board_resolve(&t->ctx, m->workspace, t->selection);
        t->plan = mos_plan_make(&t->ctx, board);
        if (!t->plan) {
            mos_fail(&m->error, MOS_ERROR_SYSTEM, 0, "%s", t->error.message);
            return;
        }
        if (!add_pins(m, t, &pins))
            return;
    }
    keep_others(m, &pins);
    struct pin **list = mos_alloc_array(m->arena, pins.count, sizeof *list);
    for (size_t i = 0; i < pins.count; i++)
        list[i] = pins.items[i].value;
    if (pins.count)
        qsort(list, pins.count, sizeof *list, by_file);
    if (write_pins(m, list, pins.count))
        report(m, list, pins.count);
}

enum mosaicum_status mosaicum_pin(mosaicum *m, const char *const *selectors, size_t count) {
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    struct mos_vec *all = run_open_to_write(m) ? run_select(m, selectors, count, true) : NULL;
    if (all)
        pin(m, all);
    return run_status(m);
}
