/* `config compare` and `minimal`: configurations against each other, and against what the sources
 * would choose by themselves. */
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
