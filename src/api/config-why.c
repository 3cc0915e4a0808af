/* `config why` and `config search`: what the sources say of a symbol, and what it came to. */
#include "api/config.h"

#include "base/text.h"
#include "kconfig/build.h"
#include "kconfig/variables.h"

#include <regex.h>
#include <string.h>
#include <strings.h>

/* ---- why ---- */

static const char *where(const struct config_job *j, struct mos_place place) {
    if (!place.source)
        return "";
    return mos_printf(j->m->arena, "%s:%u", place.source->shown_path,
                      mos_source_position(place.source, place.offset).line);
}

static void row(struct config_job *j, struct report_table *t, const char *what, const char *value,
                struct mos_place place) {
    cell_text(t, what);
    cell_text(t, value);
    cell_text(t, where(j, place));
}

/* "(n) NET (y) && USB (n)"; "always" without a condition. */
static const char *condition(struct config_job *j, const struct mos_kc_expr *e) {
    static const char *const words[] = {"n", "m", "y"};
    return e ? mos_printf(j->m->arena, "%s: %s", words[mos_kc_expr_value(j->config, e)],
                          mos_kc_expr_text(j->config, e))
             : "always";
}

static void add_selecters(struct config_job *j, struct report_table *t, const char *what,
                          const struct mos_kc_property *p) {
    for (; p; p = p->other) {
        const struct mos_kc_symbol *by = p->entry->symbol;
        const char *name = by->name ? by->name : "a choice";
        row(j, t, what,
            p->stated ? mos_printf(j->m->arena, "%s (%s) if %s", name, mos_kc_text(j->config, by),
                                   mos_kc_expr_text(j->config, p->stated))
                      : mos_printf(j->m->arena, "%s (%s)", name, mos_kc_text(j->config, by)),
            p->place);
    }
}

/* What it would take to have it, where it is not. */
static void add_wishes(struct config_job *j, struct report_table *t,
                       const struct mos_kc_symbol *s) {
    static const char *const values[] = {"m", "y"};
    bool three = s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE;
    for (size_t i = s->type == MOS_KC_BOOL; three && s->first[MOS_KC_PROMPT] && i < 2; i++) {
        const char *name = mos_printf(j->m->arena, "CONFIG_%s", s->name);
        if (mos_kc_tri(j->config, s) >= (i ? MOS_TRI_Y : MOS_TRI_M))
            continue;
        struct mos_kc_way way = mos_kc_wish(j->m->arena, j->config, name, values[i]);
        struct mos_buf b = {.arena = j->m->arena};
        for (size_t k = 0; k < way.count; k++)
            mos_buf_printf(&b, "%s%s=%s", k ? ", " : "", way.set[k]->symbol, way.set[k]->value);
        if (!way.set && way.stuck)
            mos_buf_printf(&b, "nothing in these sources switches %s on",
                           way.stuck->name ? way.stuck->name : "a choice");
        else if (!way.set)
            mos_buf_text(&b, "no settings are known that would do");
        row(j, t, mos_printf(j->m->arena, "for %s", values[i]), mos_buf_string(&b),
            (struct mos_place){0});
    }
}

/* The files that the sources' build files make of it. */
static void add_objects(struct config_job *j, struct report_table *t,
                        const struct mos_kc_symbol *s) {
    mosaicum *m = j->m;
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&m->ctx, &ignored);
    struct mos_kc_build *b =
        mos_kc_build_open(&quiet, j->folder, j->arch ? mos_kc_arch_folder(j->arch) : NULL, false);
    struct mos_vec objects = mos_vec_make(m->arena, sizeof(char *));
    if (!b)
        return;
    mos_kc_build_load(&quiet, b);
    mos_kc_build_objects(b, s->name, &objects);
    for (size_t i = 0; i < objects.count; i++) {
        const char *object = mos_vec_pointer(&objects, i);
        bool module = mos_kc_tri(j->config, s) == MOS_TRI_M;
        row(j, t, "builds",
            module ? mos_printf(m->arena, "%.*sko", (int)strlen(object) - 1, object) : object,
            (struct mos_place){0});
    }
}

static void add_symbol(struct config_job *j, struct report_table *t,
                       const struct mos_kc_symbol *s) {
    const struct mos_kc_value *v = &j->config->values[s->index];
    row(j, t, "value", mos_kc_text(j->config, s), (struct mos_place){0});
    row(j, t, "type", mos_kc_type_word(s->type), (struct mos_place){0});
    if (v->setting)
        row(j, t, "asked for", v->setting->value, v->setting->place);
    else
        row(j, t, "asked for", "by nobody", (struct mos_place){0});
    for (const struct mos_kc_entry *e = s->entry; e; e = e->again)
        row(j, t, "declared", e->kind == MOS_KC_ENTRY_CHOICE ? "choice" : s->name, e->place);
    if (!s->first[MOS_KC_PROMPT])
        row(j, t, "prompt", "none: nobody can ask for it", (struct mos_place){0});
    for (const struct mos_kc_property *p = s->first[MOS_KC_PROMPT]; p; p = p->next) {
        row(j, t, "prompt", p->text, p->place);
        row(j, t, "  is seen", condition(j, p->condition), (struct mos_place){0});
    }
    if (s->depends)
        row(j, t, "depends on", condition(j, s->depends), (struct mos_place){0});
    for (const struct mos_kc_property *p = s->first[MOS_KC_DEFAULT]; p; p = p->next) {
        row(j, t, "default", mos_kc_expr_text(j->config, p->value), p->place);
        row(j, t, "  counts", condition(j, p->condition), (struct mos_place){0});
    }
    for (const struct mos_kc_property *p = s->first[MOS_KC_RANGE]; p; p = p->next)
        row(j, t, "range",
            mos_printf(j->m->arena, "%s to %s", mos_kc_text(j->config, p->symbol),
                       mos_kc_text(j->config, p->upper)),
            p->place);
    add_selecters(j, t, "selected by", s->selected_by);
    add_selecters(j, t, "implied by", s->implied_by);
    add_wishes(j, t, s);
    add_objects(j, t, s);
}

void config_why(void *self) {
    struct config_job *j = self;
    static const struct mosaicum_column columns[] = {
        {"what", "what", false}, {"value", "value", false}, {"where", "where", false}};
    mosaicum *m = j->m;
    const struct mos_kc_symbol *s =
        config_settle(j) ? config_symbol(j, j->request->words[0]) : NULL;
    if (!s)
        return;
    struct report_table t = report_start(&m->report, "symbol", s->name, columns, 3);
    add_symbol(j, &t, s);
    report_end(&m->report, &t);
    for (const struct mos_kc_entry *e = s->entry; e; e = e->again)
        if (e->help)
            report_text(&m->report, "help", "Its help", e->help);
}

/* ---- search ---- */

/* A word, or a pattern between slashes. */
struct sought {
    const char *word;
    bool is_pattern;
    regex_t pattern;
};

static bool has_word(const char *text, const char *word) {
    size_t n = strlen(word);
    for (; text && *text; text++)
        if (strncasecmp(text, word, n) == 0)
            return true;
    return false;
}

static const char *prompt_of(const struct mos_kc_symbol *s) {
    return s->first[MOS_KC_PROMPT] ? s->first[MOS_KC_PROMPT]->text : "";
}

static bool is_sought(const struct sought *x, const char *text) {
    return x->is_pattern ? regexec(&x->pattern, text, 0, NULL, 0) == 0 : has_word(text, x->word);
}

static bool open_sought(struct config_job *j, struct sought *x) {
    const char *word = j->request->words[0];
    size_t n = strlen(word);
    *x = (struct sought){.word = word};
    if (n < 3 || word[0] != '/' || word[n - 1] != '/')
        return true;
    int e = regcomp(&x->pattern, mos_strndup(j->m->arena, word + 1, n - 2),
                    REG_EXTENDED | REG_ICASE | REG_NOSUB);
    char why[120];
    x->is_pattern = !e;
    if (e)
        regerror(e, &x->pattern, why, sizeof why);
    return !e || mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "%s is no pattern: %s", word, why);
}

static void show_sought(struct config_job *j, const struct sought *x) {
    static const struct mosaicum_column columns[] = {{"symbol", "symbol", false},
                                                     {"value", "value", false},
                                                     {"prompt", "prompt", false},
                                                     {"where", "where", false}};
    mosaicum *m = j->m;
    size_t found = 0;
    struct report_table t = report_start(&m->report, "symbols", NULL, columns, 4);
    for (size_t i = 0; i < j->tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&j->tree->all, i);
        if (!s->entry || !s->name || (!is_sought(x, s->name) && !is_sought(x, prompt_of(s))))
            continue;
        cell_text(&t, s->name);
        cell_text(&t, mos_kc_text(j->config, s));
        cell_text(&t, prompt_of(s));
        cell_text(&t, where(j, s->entry->place));
        found++;
    }
    t.table.title = found
                        ? mos_printf(m->arena, "%zu symbol%s", found, found == 1 ? "" : "s")
                        : mos_printf(m->arena, "No symbol has %s in its name or prompt.", x->word);
    report_end(&m->report, &t);
}

void config_search(void *self) {
    struct config_job *j = self;
    struct sought x;
    if (!config_settle(j) || !open_sought(j, &x))
        return;
    show_sought(j, &x);
    if (x.is_pattern)
        regfree(&x.pattern);
}
