/* `config ask`: the smallest change of a fragment that brings symbols to values. */
#include "api/config.h"

#include "base/text.h"

#include <string.h>

struct asking {
    struct config_job *j;
    const struct mos_fragment *fragment;
    const struct mos_source *source;
    const char *path;
    struct mos_vec set;         /* of const struct mos_setting *: what must stand in the fragment */
    struct mos_kc_config *with; /* settled with them */
    struct mos_buf text;        /* the new one */
    struct mos_buf change;      /* the difference, as lines */
};

/* The fragment with that name, of the board that is meant. */
static bool find_fragment(struct asking *a) {
    struct config_job *j = a->j;
    mosaicum *m = j->m;
    const char *const *names = j->request->fragments;
    const struct mos_named *all = &j->said->fragments;
    struct mos_buf known = {.arena = m->arena};
    for (size_t i = 0; i < all->count; i++) {
        const struct mos_fragment *f = all->items[i];
        mos_buf_printf(&known, "%s%s", i ? ", " : "", f->r.name);
        if (names && names[0] && strcmp(names[0], f->r.name) == 0)
            a->fragment = f;
    }
    if (!a->fragment || !mos_has(a->fragment->file))
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "Into which fragment?  --fragment %s",
                        known.length ? mos_buf_string(&known) : "NAME (the board has none yet)");
    const struct mos_config_part *part = NULL;
    for (size_t i = 0; i < j->all.count && !part; i++)
        if (j->all.settings[i]->part && strcmp(j->all.settings[i]->part->name, names[0]) == 0)
            part = j->all.settings[i]->part;
    const char *file = a->fragment->file->text;
    if (*file == '<')
        return mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                        "%s lies outside of the workspace: it is not changed", file);
    a->path = mos_workspace_path(&m->ctx, j->task->plan->board->root, file);
    a->source = part ? part->source : mos_source_load(&m->ctx, a->path, file, 64 << 20);
    if (a->source && a->source->outside)
        return mos_fail(&m->error, MOS_ERROR_SAFETY, 0,
                        "%s is said to be from outside: it is not changed", file);
    return a->source != NULL;
}

/* "USB_ACM=m" → CONFIG_USB_ACM, m */
static bool read_wish(struct asking *a, const char *word, const char **symbol, const char **value) {
    mosaicum *m = a->j->m;
    const char *equals = strchr(word, '=');
    if (!equals || equals == word || !equals[1])
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s is no SYMBOL=VALUE", word);
    const struct mos_kc_symbol *s =
        config_symbol(a->j, mos_strndup(m->arena, word, (size_t)(equals - word)));
    if (!s)
        return false;
    *symbol = mos_printf(m->arena, "CONFIG_%s", s->name);
    *value = equals + 1;
    if (s->type == MOS_KC_STRING && equals[1] != '"')
        *value = mos_kc_quoted(a->j->config, equals + 1);
    return true;
}

static void add_once(struct mos_vec *set, const struct mos_setting *s) {
    for (size_t i = 0; i < set->count; i++)
        if (strcmp(((const struct mos_setting *)mos_vec_pointer(set, i))->symbol, s->symbol) == 0)
            return;
    mos_vec_push_pointer(set, s);
}

/* Why no settings bring it. */
static bool tell_vain(struct asking *a, const struct mos_kc_config *before, const char *symbol,
                      const char *value, const struct mos_kc_symbol *stuck) {
    mosaicum *m = a->j->m;
    struct mos_setting wanted = {.symbol = symbol, .value = value};
    const struct mos_setting *one = &wanted;
    struct mos_kc_config *c = mos_kc_config_again(m->arena, before);
    mos_kc_ask(c, &one, 1);
    mos_kc_settle(c);
    struct mos_kc_answer answer = mos_kc_answer(c, &wanted);
    const char *why = "no settings are known that would do";
    if (answer.reason == MOS_KC_NO_VALUE)
        why = answer.text;
    else if (answer.reason == MOS_KC_NO_PROMPT)
        why = "it has no prompt, nobody can ask for it";
    else if (answer.reason == MOS_KC_SELECTED && answer.by)
        why = mos_printf(m->arena, "%s selects it", answer.by->name ? answer.by->name : "a choice");
    else if (stuck)
        why = mos_printf(m->arena, "nothing in these sources switches %s on",
                         stuck->name ? stuck->name : "a choice");
    else if (*answer.text)
        why = mos_printf(m->arena, "unmet: %s", answer.text);
    return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "%s cannot come to %s: %s", symbol, value, why);
}

/* All that is asked for, one after the other: what one brings the next finds there. */
static bool gather(struct asking *a) {
    struct config_job *j = a->j;
    mosaicum *m = j->m;
    struct mos_kc_config *c = j->config;
    for (size_t i = 0; i + 1 < j->request->count; i++) {
        const char *symbol, *value;
        if (!read_wish(a, j->request->words[i], &symbol, &value))
            return false;
        struct mos_kc_way way = mos_kc_wish(m->arena, c, symbol, value);
        if (!way.set)
            return tell_vain(a, c, symbol, value, way.stuck);
        for (size_t k = 0; k < way.count; k++)
            add_once(&a->set, way.set[k]);
        c = mos_kc_config_again(m->arena, c);
        mos_kc_ask(c, way.set, way.count);
        mos_kc_settle(c);
    }
    a->with = c;
    return true;
}

/* Two fragments that say different things are a conflict, whichever comes last. */
static bool agrees(struct asking *a) {
    struct config_job *j = a->j;
    const struct mos_value *may = a->fragment->contradicts;
    for (size_t i = 0; i < a->set.count; i++) {
        const struct mos_setting *n = mos_vec_pointer(&a->set, i);
        for (size_t k = 0; k < j->all.count; k++) {
            const struct mos_setting *s = j->all.settings[k];
            if (!s->part || s->part->start || strcmp(s->part->name, a->fragment->r.name) == 0 ||
                strcmp(s->symbol, n->symbol) != 0 || strcmp(s->value, n->value) == 0 ||
                (mos_has(may) && strcmp(may->text, s->part->name) == 0))
                continue;
            return mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                            "%s would need %s=%s, and %s says %s=%s: change it there (--fragment "
                            "%s)",
                            j->request->words[0], n->symbol, n->value, s->part->source->shown_path,
                            s->symbol, s->value, s->part->name);
        }
    }
    return true;
}

/* Requests that held and do not any more: those of the fragment itself say from now on what they
 * come to (another one of a choice, say); others are told. */
static void give_in(struct asking *a) {
    struct config_job *j = a->j;
    mosaicum *m = j->m;
    for (size_t i = 0; i < j->all.count; i++) {
        const struct mos_setting *s = j->all.settings[i];
        struct mos_kc_answer now = mos_kc_answer(a->with, s);
        if (!s->part || s->part->start || now.reason == MOS_KC_KEPT ||
            now.reason == MOS_KC_OVERRULED || !now.symbol ||
            mos_kc_answer(j->config, s).reason != MOS_KC_KEPT)
            continue;
        bool text = now.symbol->type == MOS_KC_STRING;
        const char *value = text ? mos_kc_quoted(a->with, now.value) : now.value;
        if (strcmp(s->part->name, a->fragment->r.name) != 0) {
            report_text(&m->report, "dropped", NULL,
                        mos_printf(m->arena, "%s=%s of %s would come to %s.\n", s->symbol, s->value,
                                   s->part->source->shown_path, value));
            continue;
        }
        struct mos_setting *other = mos_alloc(m->arena, sizeof *other);
        *other = (struct mos_setting){.symbol = s->symbol, .value = value};
        add_once(&a->set, other);
    }
}

/* ---- the text ---- */

static const char *line_of(struct mos_arena *arena, const struct mos_setting *s) {
    return strcmp(s->value, "n") == 0 ? mos_printf(arena, "# %s is not set", s->symbol)
                                      : mos_printf(arena, "%s=%s", s->symbol, s->value);
}

/* The last line of the fragment about a symbol; NULL: none. */
static const struct mos_setting *standing(const struct mos_config_part *part, const char *symbol) {
    const struct mos_setting *last = NULL;
    for (size_t i = 0; i < part->settings.count; i++) {
        const struct mos_setting *s = mos_vec_pointer(&part->settings, i);
        last = strcmp(s->symbol, symbol) == 0 ? s : last;
    }
    return last;
}

static void write_text(struct asking *a, const struct mos_config_part *part) {
    struct mos_arena *arena = a->j->m->arena;
    const char *text = a->source->text;
    size_t length = a->source->length, at = 0;
    for (size_t i = 0; i < part->settings.count; i++) {
        const struct mos_setting *s = mos_vec_pointer(&part->settings, i);
        if (standing(part, s->symbol) != s)
            continue;
        for (size_t k = 0; k < a->set.count; k++) {
            const struct mos_setting *n = mos_vec_pointer(&a->set, k);
            if (strcmp(n->symbol, s->symbol) != 0 || strcmp(n->value, s->value) == 0)
                continue;
            mos_buf_add(&a->text, text + at, s->place.offset - at);
            mos_buf_text(&a->text, line_of(arena, n));
            mos_buf_printf(&a->change, "%5u - %s\n      + %s\n",
                           mos_source_position(a->source, s->place.offset).line, line_of(arena, s),
                           line_of(arena, n));
            at = s->place.offset + s->place.length;
        }
    }
    mos_buf_add(&a->text, text + at, length - at);
    if (a->text.length && a->text.data[a->text.length - 1] != '\n')
        mos_buf_char(&a->text, '\n');
    for (size_t k = 0; k < a->set.count; k++) {
        const struct mos_setting *n = mos_vec_pointer(&a->set, k);
        if (standing(part, n->symbol))
            continue;
        mos_buf_printf(&a->text, "%s\n", line_of(arena, n));
        mos_buf_printf(&a->change, "      + %s\n", line_of(arena, n));
    }
}

/* ---- what comes of it ---- */

/* All requests, with the new fragment in the place of the old one. */
static struct mos_kc_config *settled_again(struct asking *a, const struct mos_config_part *part) {
    struct config_job *j = a->j;
    struct mos_vec all = mos_vec_make(j->m->arena, sizeof(void *));
    const struct mos_named *order = &j->said->fragments;
    for (size_t i = 0; i < j->all.count; i++)
        if (j->all.settings[i]->part->start)
            mos_vec_push_pointer(&all, j->all.settings[i]);
    for (size_t f = 0; f < order->count; f++) {
        const char *name = ((const struct mos_fragment *)order->items[f])->r.name;
        bool own = strcmp(name, part->name) == 0;
        for (size_t i = 0; own && i < part->settings.count; i++)
            mos_vec_push_pointer(&all, mos_vec_pointer(&part->settings, i));
        for (size_t i = 0; !own && i < j->all.count; i++)
            if (!j->all.settings[i]->part->start &&
                strcmp(j->all.settings[i]->part->name, name) == 0)
                mos_vec_push_pointer(&all, j->all.settings[i]);
    }
    const struct mos_kc_requests requests = {all.items, all.count};
    return mos_kc_with(j->m->arena, j->tree, &requests, NULL, 0);
}

/* Everything that was asked for has come true; else another fragment says otherwise. */
static bool holds(struct asking *a, struct mos_kc_config *c) {
    mosaicum *m = a->j->m;
    for (size_t i = 0; i + 1 < a->j->request->count; i++) {
        const char *symbol, *value;
        if (!read_wish(a, a->j->request->words[i], &symbol, &value))
            return false;
        const struct mos_kc_symbol *s = mos_kc_find(a->j->tree, symbol + 7);
        const char *now = mos_kc_text(c, s);
        if (s->type == MOS_KC_STRING)
            now = mos_kc_quoted(c, now);
        const struct mos_setting *by = c->values[s->index].setting;
        if (strcmp(now, value) != 0)
            return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                            "%s stays %s: %s says %s=%s; ask for it in that fragment", symbol, now,
                            by && by->part ? by->part->name : "another fragment", symbol,
                            by ? by->value : now);
    }
    return true;
}

static void show_changes(struct asking *a, struct mos_kc_config *after) {
    enum { MOST_SHOWN = 40 };
    static const struct mosaicum_column columns[] = {
        {"symbol", "symbol", false}, {"before", "before", false}, {"after", "after", false}};
    struct config_job *j = a->j;
    mosaicum *m = j->m;
    size_t shown = 0;
    const struct mos_kc_changes changes = mos_kc_changes(j->config, after);
    report_text(&m->report, "change", a->fragment->file->text, mos_buf_string(&a->change));
    struct report_table t =
        report_start(&m->report, "symbols", mos_kc_changes_text(m->arena, &changes), columns, 3);
    for (size_t i = 0; i < j->tree->all.count && shown < MOST_SHOWN; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&j->tree->all, i);
        if (!mos_kc_differs(j->config, after, s))
            continue;
        cell_text(&t, s->name);
        cell_text(&t, mos_kc_text(j->config, s));
        cell_text(&t, mos_kc_text(after, s));
        shown++;
    }
    report_end(&m->report, &t);
}

/* Has one of the fragments of that side of a board this file? */
static bool takes_file(const struct asking *a, const struct mos_board *b) {
    const struct mos_kernel_config *config = a->j->request->loader
                                                 ? (b->loader ? b->loader->config : NULL)
                                                 : (b->kernel ? b->kernel->config : NULL);
    for (size_t i = 0; config && i < config->fragments.count; i++) {
        const struct mos_fragment *f = config->fragments.items[i];
        if (mos_has(f->file) && strcmp(f->file->text, a->fragment->file->text) == 0)
            return true;
    }
    return false;
}

/* Who else has this fragment, and gets what is changed here. */
static void tell_sharers(struct asking *a) {
    enum { MOST_NAMED = 5 };
    mosaicum *m = a->j->m;
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&m->ctx, &ignored);
    struct mos_vec all = mos_vec_make(m->arena, sizeof(struct mos_selection));
    struct mos_buf names = {.arena = m->arena};
    size_t count = 0, broken = 0;
    bool read = mos_workspace_select_all(&quiet, m->workspace, true, &all);
    for (size_t i = 0; i < all.count; i++) {
        const struct mos_selection *s = mos_vec_at(&all, i);
        if (strcmp(s->text, a->j->task->selection->text) == 0)
            continue;
        struct mos_ctx aside = quiet;
        aside.arena = mos_arena_child(m->arena);
        const struct mos_board *b = mos_board_resolve(&aside, m->workspace, s);
        broken += b->r.broken;
        if (takes_file(a, b) && count++ < MOST_NAMED)
            mos_buf_printf(&names, "%s%s", count > 1 ? ", " : "", s->text);
        mos_arena_free(aside.arena);
    }
    if (count > MOST_NAMED)
        mos_buf_printf(&names, " and %zu more", count - MOST_NAMED);
    if (count)
        report_text(&m->report, "shared", NULL,
                    mos_printf(m->arena,
                               "%s is also part of %s: mosaicum check tells what it does to %s.\n",
                               a->fragment->file->text, mos_buf_string(&names),
                               count > 1 ? "them" : "it"));
    if (!read || broken)
        report_text(&m->report, "unread", NULL,
                    "Not every board of this workspace can be read; more may share it.\n");
}

void config_ask(void *self) {
    struct config_job *j = self;
    mosaicum *m = j->m;
    struct asking a = {.j = j,
                       .set = mos_vec_make(m->arena, sizeof(void *)),
                       .text = {.arena = m->arena},
                       .change = {.arena = m->arena}};
    if (j->request->source) {
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "config ask changes a fragment of a board: name the board, not --source");
        return;
    }
    run_open_to_write(m);
    if (m->error.kind || !config_settle(j) || !find_fragment(&a) || !gather(&a))
        return;
    if (!agrees(&a))
        return;
    give_in(&a);
    struct mos_config_part *old = mos_config_read(&m->ctx, a.fragment->r.name, a.source);
    write_text(&a, old);
    if (!a.change.length) {
        report_text(&m->report, "change", NULL,
                    mos_printf(m->arena, "%s has it already: nothing to change.\n",
                               a.fragment->file->text));
        return;
    }
    const struct mos_source *fresh =
        mos_source_make(m->arena, a.fragment->file->text, mos_buf_string(&a.text), a.text.length,
                        m->ctx.source_count++);
    struct mos_kc_config *after =
        settled_again(&a, mos_config_read(&m->ctx, a.fragment->r.name, fresh));
    if (!holds(&a, after))
        return;
    show_changes(&a, after);
    tell_sharers(&a);
    if (!j->request->only_show)
        mos_write_file(&m->ctx, a.path, a.text.data, a.text.length);
}
