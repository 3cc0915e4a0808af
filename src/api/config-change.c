/* `config compare`, `minimal` and `cost`: configurations against each other, and against what the
 * sources would choose by themselves. */
#include "api/config.h"

#include "base/text.h"

#include <string.h>

/* ---- compare ---- */

static bool is_off(const struct mos_setting *s) {
    return !s || strcmp(s->value, "n") == 0;
}

static struct mos_map settings_of(struct config_job *j, const struct mos_config_part *part) {
    struct mos_map all = mos_map_make(j->m->arena);
    for (size_t i = 0; i < part->settings.count; i++) {
        const struct mos_setting *s = mos_vec_pointer(&part->settings, i);
        mos_map_set_const(&all, s->symbol, s);
    }
    return all;
}

static void value_cell(struct report_table *t, const struct mos_setting *s) {
    cell_text(t, s ? s->value : "not there");
}

struct comparing {
    struct config_job *j;
    struct report_table *t;
    size_t differ, unnamed;
};

static void compare_symbol(struct comparing *x, const char *symbol, const struct mos_setting *a,
                           const struct mos_setting *b) {
    if (is_off(a) && is_off(b)) {
        x->unnamed += !a != !b;
        return;
    }
    if (a && b && strcmp(a->value, b->value) == 0)
        return;
    x->differ++;
    cell_text(x->t, symbol);
    value_cell(x->t, a);
    value_cell(x->t, b);
}

/* Off, and not named at all, are the same to a kernel that has the symbol; how often is said. */
void config_compare(void *self) {
    struct config_job *j = self;
    mosaicum *m = j->m;
    const char *const *files = j->request->words;
    struct mosaicum_column *columns = mos_alloc_array(m->arena, 3, sizeof *columns);
    struct mos_config_part *parts[2];
    for (size_t i = 0; i < 2; i++)
        if (!(parts[i] = config_part(j, files[i])))
            return;
    if (mos_findings_count(&m->ctx.findings, MOS_SEVERITY_ERROR))
        return; /* lines that cannot be read are no settings */
    columns[0] = (struct mosaicum_column){"symbol", "symbol", false};
    columns[1] = (struct mosaicum_column){"first", files[0], false};
    columns[2] = (struct mosaicum_column){"second", files[1], false};
    struct mos_map a = settings_of(j, parts[0]), b = settings_of(j, parts[1]);
    struct report_table t = report_start(&m->report, "differences", NULL, columns, 3);
    struct comparing x = {j, &t, 0, 0};
    for (size_t i = 0; i < a.count; i++)
        compare_symbol(&x, a.items[i].key, a.items[i].value, mos_map_get(&b, a.items[i].key));
    for (size_t i = 0; i < b.count; i++)
        if (!mos_map_get(&a, b.items[i].key))
            compare_symbol(&x, b.items[i].key, NULL, b.items[i].value);
    t.table.title = mos_printf(
        m->arena, "%zu symbol%s differ%s%s", x.differ, x.differ == 1 ? "" : "s",
        x.differ == 1 ? "s" : "",
        x.unnamed ? mos_printf(m->arena, "; %zu more %s off in one and not named in the other",
                               x.unnamed, x.unnamed == 1 ? "is" : "are")
                  : "");
    report_end(&m->report, &t);
    m->damaged = x.differ != 0;
}

/* ---- minimal ---- */

void config_minimal(void *self) {
    struct config_job *j = self;
    mosaicum *m = j->m;
    if (!config_settle(j))
        return;
    struct mos_vec said = mos_vec_make(m->arena, sizeof(void *));
    size_t differ = mos_kc_minimal(j->config, &said);
    if (differ) {
        mos_fail(&m->error, MOS_ERROR_SYSTEM, 0,
                 "No settings are known that give this configuration: %zu symbols would differ",
                 differ);
        return;
    }
    struct mos_map all = mos_map_make(m->arena);
    size_t length, whole = 0;
    for (size_t i = 0; i < said.count; i++) {
        struct mos_setting *s = mos_vec_pointer(&said, i);
        mos_map_set(&all, s->symbol, s);
    }
    for (size_t i = 0; i < j->tree->all.count; i++)
        whole += j->config->values[i].written != 0;
    const char *text = mos_config_text(&m->ctx, &all, &length);
    config_put(j, text, length);
    report_text(&m->report, "minimal", NULL,
                all.count ? mos_printf(m->arena,
                                       "%zu setting%s give%s all %zu symbols; each of them is "
                                       "needed.\n",
                                       all.count, all.count == 1 ? "" : "s",
                                       all.count == 1 ? "s" : "", whole)
                          : mos_printf(m->arena,
                                       "No setting is needed: the sources choose all %zu symbols "
                                       "like this by themselves.\n",
                                       whole));
}

/* ---- cost ---- */

/* All requests but one. */
static struct mos_kc_config *without(struct config_job *j, struct mos_arena *arena, size_t which) {
    const struct mos_setting **rest = mos_alloc_array(arena, j->all.count, sizeof *rest);
    size_t count = 0;
    for (size_t i = 0; i < j->all.count; i++)
        if (i != which)
            rest[count++] = j->all.settings[i];
    const struct mos_kc_requests all = {rest, count};
    return mos_kc_with(arena, j->tree, &all, NULL, 0);
}

/* What each setting of a fragment brings: worked out again without it. */
void config_cost(void *self) {
    struct config_job *j = self;
    mosaicum *m = j->m;
    static const struct mosaicum_column columns[] = {
        {"setting", "setting", false}, {"symbols", "symbols", true}, {"built-in", "built in", true},
        {"modules", "modules", true},  {"brings", "brings", false},  {"where", "where", false}};
    enum { MOST_NAMED = 4 };
    if (!config_settle(j))
        return;
    struct report_table t =
        report_start(&m->report, "cost", "What each setting brings", columns, 6);
    for (size_t i = 0; i < j->all.count; i++) {
        const struct mos_setting *s = j->all.settings[i];
        if (!s->part || s->part->start)
            continue;
        struct mos_arena *aside = mos_arena_child(m->arena);
        struct mos_kc_config *c = without(j, aside, i);
        struct mos_kc_changes changes = mos_kc_changes(c, j->config);
        struct mos_buf names = {.arena = m->arena};
        size_t named = 0;
        for (size_t k = 0; k < j->tree->all.count; k++) {
            const struct mos_kc_symbol *x = mos_vec_pointer(&j->tree->all, k);
            if (!mos_kc_differs(c, j->config, x) || strcmp(x->name, s->symbol + 7) == 0)
                continue;
            if (named++ < MOST_NAMED)
                mos_buf_printf(&names, "%s%s=%s", named > 1 ? " " : "", x->name,
                               mos_kc_text(j->config, x));
        }
        if (named > MOST_NAMED)
            mos_buf_printf(&names, " and %zu more", named - MOST_NAMED);
        cell_text(&t, mos_printf(m->arena, "%s=%s", s->symbol, s->value));
        cell_number(&t, changes.count);
        cell_number(&t, changes.built_in);
        cell_number(&t, changes.modules);
        cell_text(&t, mos_buf_string(&names));
        cell_text(&t, place_text(m->arena, s->place));
        mos_arena_free(aside);
    }
    report_end(&m->report, &t);
}
