/* Configurations of kernels and loaders, worked out over their Kconfig trees. */
#include "api/run.h"

#include "base/text.h"
#include "kconfig/why.h"
#include "plan/kconfig.h"
#include "rules/rules.h"

#include <string.h>
#include <strings.h>

struct job {
    mosaicum *m;
    const struct mosaicum_config *request;
    struct mos_kc_tree *tree;
    struct mos_kc_config *config;
    struct mos_vec parts; /* of struct mos_config_part * */
    struct mos_vec all;   /* of struct mos_setting *: of all parts */
};

static bool open_tree(struct job *j) {
    const struct mosaicum_config *r = j->request;
    mosaicum *m = j->m;
    if (!r->source)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "Which sources?  mosaicum config %s … --source LINUX --arch arm64",
                        r->verb);
    const struct mos_kc_world world = {r->source, r->source, r->arch, r->compiler, r->vars};
    run_allow(m, r->source, MOS_REACH_READ);
    j->tree = mos_kc_open(&m->ctx, &world);
    return j->tree != NULL;
}

/* A file, or one that the tree has for its boards. */
static const char *start_file(struct job *j) {
    const struct mosaicum_config *r = j->request;
    mosaicum *m = j->m;
    const char *arch = r->arch ? mos_kc_arch_folder(r->arch) : "";
    const char *const places[] = {
        r->start, mos_printf(m->arena, "%s/arch/%s/configs/%s", r->source, arch, r->start),
        mos_printf(m->arena, "%s/configs/%s", r->source, r->start), NULL};
    for (size_t i = 0; places[i]; i++) {
        run_allow(m, places[i], MOS_REACH_READ);
        if (mos_exists(&m->ctx, places[i]))
            return places[i];
    }
    return r->start;
}

static bool read_part(struct job *j, const char *path, bool start) {
    mosaicum *m = j->m;
    enum { LARGEST = 64 << 20 };
    run_allow(m, path, MOS_REACH_READ);
    struct mos_source *s = mos_source_load(&m->ctx, path, path, LARGEST);
    struct mos_config_part *part = s ? mos_config_read(&m->ctx, path, s) : NULL;
    if (!part)
        return false;
    part->start = start;
    mos_vec_push_pointer(&j->parts, part);
    return true;
}

static bool read_parts(struct job *j) {
    const struct mosaicum_config *r = j->request;
    j->parts = mos_vec_make(j->m->arena, sizeof(void *));
    if (r->start && !read_part(j, start_file(j), true))
        return false;
    for (size_t i = 0; r->fragments && r->fragments[i]; i++)
        if (!read_part(j, r->fragments[i], false))
            return false;
    return true;
}

/* Lines that cannot be read are no settings: nothing is settled without them. */
static bool settle(struct job *j) {
    mosaicum *m = j->m;
    if (!open_tree(j) || !read_parts(j) || mos_findings_count(&m->ctx.findings, MOS_SEVERITY_ERROR))
        return false;
    j->all = mos_vec_make(m->arena, sizeof(void *));
    for (size_t i = 0; i < j->parts.count; i++) {
        const struct mos_config_part *part = mos_vec_pointer(&j->parts, i);
        for (size_t k = 0; k < part->settings.count; k++)
            mos_vec_push_pointer(&j->all, mos_vec_pointer(&part->settings, k));
    }
    j->config = mos_kc_config_new(m->arena, j->tree);
    mos_kc_ask(j->config, j->all.items, j->all.count);
    mos_kc_settle(j->config);
    return true;
}

/* It is written as it comes out; what was asked for and did not come true is told. */
static void resolve(void *self) {
    struct job *j = self;
    mosaicum *m = j->m;
    size_t length;
    if (!settle(j))
        return;
    const struct mos_kc_requests all = {j->all.items, j->all.count};
    mos_tell_requests(&m->ctx, j->config, &all);
    struct mos_buf said = {.arena = m->arena};
    for (size_t i = 0; i < j->tree->said.count; i++)
        mos_buf_printf(&said, "%s\n", (const char *)mos_vec_pointer(&j->tree->said, i));
    if (said.length)
        report_text(&m->report, "said", "What the sources say", mos_buf_string(&said));
    const char *text = mos_kc_write(j->config, &length);
    run_allow(m, j->request->output, MOS_REACH_READ | MOS_REACH_WRITE);
    run_put(&m->ctx, j->request->output, text, length);
}

/* ---- why ---- */

static const char *where(const struct job *j, struct mos_place place) {
    if (!place.source)
        return "";
    return mos_printf(j->m->arena, "%s:%u", place.source->shown_path,
                      mos_source_position(place.source, place.offset).line);
}

static void row(struct job *j, struct report_table *t, const char *what, const char *value,
                struct mos_place place) {
    cell_text(t, what);
    cell_text(t, value);
    cell_text(t, where(j, place));
}

/* "(n) NET (y) && USB (n)"; "always" without a condition. */
static const char *condition(struct job *j, const struct mos_kc_expr *e) {
    static const char *const words[] = {"n", "m", "y"};
    return e ? mos_printf(j->m->arena, "%s: %s", words[mos_kc_expr_value(j->config, e)],
                          mos_kc_expr_text(j->config, e))
             : "always";
}

static void add_selecters(struct job *j, struct report_table *t, const char *what,
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

static void add_symbol(struct job *j, struct report_table *t, const struct mos_kc_symbol *s) {
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
}

/* A symbol by its name, with CONFIG_ or without; NULL with the error. */
static const struct mos_kc_symbol *symbol_named(struct job *j, const char *name) {
    const char *own = strncmp(name, "CONFIG_", 7) == 0 ? name + 7 : name;
    const struct mos_kc_symbol *s = mos_kc_find(j->tree, own);
    if (s && s->entry)
        return s;
    const char **names = mos_alloc_array(j->m->arena, j->tree->all.count, sizeof *names);
    size_t count = 0;
    for (size_t i = 0; i < j->tree->all.count; i++) {
        const struct mos_kc_symbol *k = mos_vec_pointer(&j->tree->all, i);
        if (k->entry && k->name)
            names[count++] = k->name;
    }
    const char *near = mos_near(own, names, count);
    mos_fail(&j->m->error, MOS_ERROR_USAGE, 0, "These sources have no symbol %s%s%s%s", own,
             near ? "; did you mean " : "", near ? near : "", near ? "?" : "");
    return NULL;
}

static void why(void *self) {
    struct job *j = self;
    static const struct mosaicum_column columns[] = {
        {"what", "what", false}, {"value", "value", false}, {"where", "where", false}};
    mosaicum *m = j->m;
    const struct mos_kc_symbol *s = settle(j) ? symbol_named(j, j->request->words[0]) : NULL;
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

static void search(void *self) {
    struct job *j = self;
    static const struct mosaicum_column columns[] = {{"symbol", "symbol", false},
                                                     {"value", "value", false},
                                                     {"prompt", "prompt", false},
                                                     {"where", "where", false}};
    mosaicum *m = j->m;
    const char *word = j->request->words[0];
    size_t found = 0;
    if (!settle(j))
        return;
    struct report_table t = report_start(&m->report, "symbols", NULL, columns, 4);
    for (size_t i = 0; i < j->tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&j->tree->all, i);
        if (!s->entry || !s->name || (!has_word(s->name, word) && !has_word(prompt_of(s), word)))
            continue;
        cell_text(&t, s->name);
        cell_text(&t, mos_kc_text(j->config, s));
        cell_text(&t, prompt_of(s));
        cell_text(&t, where(j, s->entry->place));
        found++;
    }
    t.table.title = found ? mos_printf(m->arena, "%zu symbol%s", found, found == 1 ? "" : "s")
                          : mos_printf(m->arena, "No symbol has %s in its name or prompt.", word);
    report_end(&m->report, &t);
}

static const struct run_verb verbs[] = {
    {"resolve", "--source TREE --arch ARCH [--start FILE] [--fragment FILE]… -o FILE", 0, 0, true,
     resolve},
    {"why", "SYMBOL --source TREE --arch ARCH [--start FILE] [--fragment FILE]…", 1, 1, false, why},
    {"search", "WORD --source TREE --arch ARCH [--start FILE] [--fragment FILE]…", 1, 1, false,
     search},
};

enum mosaicum_status mosaicum_config(mosaicum *m, const struct mosaicum_config *request) {
    struct job j = {.m = m, .request = request};
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    const struct run_verb *verb =
        run_verb(m, "config", verbs, sizeof verbs / sizeof *verbs, "resolve, why and search",
                 request->verb, request->count, request->output != NULL);
    if (verb)
        verb->run(&j);
    return run_status(m);
}
