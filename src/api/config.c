/* Configurations of kernels and loaders, worked out over their Kconfig trees. */
#include "api/config.h"

#include "rules/rules.h"

#include <string.h>

/* It is written as it comes out; what was asked for and did not come true is told. */
static void resolve(void *self) {
    struct config_job *j = self;
    mosaicum *m = j->m;
    size_t length;
    if (!config_settle(j))
        return;
    mos_tell_requests(&m->ctx, j->config, &j->all);
    struct mos_buf said = {.arena = m->arena};
    for (size_t i = 0; i < j->tree->said.count; i++)
        mos_buf_printf(&said, "%s\n", (const char *)mos_vec_pointer(&j->tree->said, i));
    if (said.length)
        report_text(&m->report, "said", "What the sources say", mos_buf_string(&said));
    const char *text = mos_kc_write(j->config, &length);
    config_put(j, text, length);
}

/* Without sources: what is asked for, one setting a symbol. */
static void merge(void *self) {
    struct config_job *j = self;
    mosaicum *m = j->m;
    size_t length;
    if (!config_parts(j))
        return;
    struct mos_map all =
        mos_config_merge(&m->ctx, (struct mos_config_part *const *)j->parts.items, j->parts.count);
    if (mos_findings_count(&m->ctx.findings, MOS_SEVERITY_ERROR))
        return;
    const char *text = mos_config_text(&m->ctx, &all, &length);
    config_put(j, text, length);
}

#define TREE "--source TREE --arch ARCH [--start FILE] [--fragment FILE]…"

static const struct run_verb verbs[] = {
    {"resolve", TREE " -o FILE, or SELECTOR -o FILE", 0, 1, true, resolve},
    {"merge", "[--start FILE] --fragment FILE… -o FILE", 0, 0, true, merge},
    {"why", "SYMBOL " TREE ", or SYMBOL SELECTOR", 1, 2, false, config_why},
    {"search", "WORD|/PATTERN/ " TREE ", or WORD SELECTOR", 1, 2, false, config_search},
    {"compare", "FILE FILE", 2, 2, false, config_compare},
    {"minimal", TREE " -o FILE, or SELECTOR -o FILE", 0, 1, true, config_minimal},
    {"cost", TREE ", or SELECTOR", 0, 1, false, config_cost},
    {"ask", "SYMBOL=VALUE… SELECTOR --fragment NAME", 2, 64, false, config_ask},
};

/* What follows the words that a verb always has is a selector. */
static const char *selector_of(const struct run_verb *v, const struct mosaicum_config *r) {
    bool last = strcmp(v->name, "ask") == 0 || (r->count == v->most && v->most > v->least);
    return last ? r->words[r->count - 1] : NULL;
}

/* What was given and the verb has no use for is no matter of taste: something else was meant. */
static bool has_stray(mosaicum *m, const struct run_verb *v, const struct mosaicum_config *r) {
    const struct {
        const char *option;
        bool given;
        const char *verbs; /* that know it */
    } rows[] = {
        {"--output", r->output, "resolve merge minimal"},
        {"--link-map", r->link_map, "cost"},
        {"--modules", r->modules, "cost"},
        {"--only-show", r->only_show, "ask"},
        {"--start", r->start, "resolve merge why search minimal cost ask"},
        {"--fragment", r->fragments, "resolve merge why search minimal cost ask"},
        {"--source", r->source, "resolve why search minimal cost ask"},
        {"--arch", r->arch, "resolve why search minimal cost ask"},
        {"--cc", r->compiler, "resolve why search minimal cost ask"},
        {"--var", r->vars, "resolve why search minimal cost ask"},
        {"--of-loader", r->loader, "resolve why search minimal cost ask"},
    };
    size_t n = strlen(v->name);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *p = rows[i].given ? rows[i].verbs : NULL;
        while (p && *p && (strncmp(p, v->name, n) != 0 || (p[n] && p[n] != ' ')))
            p += strcspn(p, " "), p += strspn(p, " ");
        if (p && !*p)
            return !mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                             "config %s has no use for %s, which goes with: %s", v->name,
                             rows[i].option, rows[i].verbs);
    }
    return false;
}

enum mosaicum_status mosaicum_config(mosaicum *m, const struct mosaicum_config *request) {
    struct config_job j = {.m = m, .request = request};
    if (setjmp(m->out_of_memory))
        return run_no_memory(m);
    const struct run_verb *verb =
        run_verb(m, "config", verbs, sizeof verbs / sizeof *verbs,
                 "resolve, merge, why, search, compare, minimal, cost and ask", request->verb,
                 request->count, request->output != NULL);
    j.selector = verb ? selector_of(verb, request) : NULL;
    if (verb && !has_stray(m, verb, request))
        verb->run(&j);
    return run_status(m);
}
