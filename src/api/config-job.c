/* What jobs on configurations have in common: a tree, files of settings, and what they come to. */
#include "api/config.h"

#include "base/text.h"
#include "plan/kconfig.h"

#include <string.h>

struct names_list {
    struct mos_arena *arena;
    struct mos_vec names; /* of const char * */
};

static bool add_name(void *self, const char *name) {
    struct names_list *l = self;
    if (*name != '.')
        mos_vec_push_pointer(&l->names, mos_strdup(l->arena, name));
    return true;
}

/* A name in a folder that is written much like another; NULL: there is none. */
static const char *near_in(mosaicum *m, const char *folder, const char *name) {
    struct names_list l = {m->arena, mos_vec_make(m->arena, sizeof(char *))};
    m->ctx.host->list(m->ctx.host, folder, add_name, &l);
    return mos_near(name, l.names.items, l.names.count);
}

static bool mentions_arch(struct config_job *j, const char *file) {
    enum { LARGEST = 1 << 20 };
    mosaicum *m = j->m;
    struct mos_error ignored = {0};
    struct mos_ctx quiet = mos_ctx_quiet(&m->ctx, &ignored);
    char *text;
    size_t length;
    return mos_read_file(&quiet, mos_path_join(m->arena, j->request->source, file), LARGEST, &text,
                         &length) &&
           strstr(text, "$(SRCARCH)");
}

/* Sources that have several architectures must be told which. */
static bool has_arch(struct config_job *j) {
    const struct mosaicum_config *r = j->request;
    mosaicum *m = j->m;
    for (size_t i = 0; r->vars && r->vars[i]; i++)
        if (strncmp(r->vars[i], "SRCARCH=", 8) == 0)
            return true;
    run_allow(m, r->source, MOS_REACH_READ);
    const char *folder = r->arch ? mos_kc_arch_folder(r->arch) : NULL,
               *all = mos_path_join(m->arena, r->source, "arch");
    if ((!mentions_arch(j, "Kconfig") && !mentions_arch(j, "arch/Kconfig")) ||
        (folder && mos_exists(&m->ctx, mos_path_join(m->arena, all, folder))))
        return true;
    if (!folder)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "Which architecture?  --arch, and a name as in %s: arm64, riscv …", all);
    const char *near = near_in(m, all, r->arch);
    return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "These sources have no architecture %s%s%s%s",
                    r->arch, near ? "; did you mean " : "", near ? near : "", near ? "?" : "");
}

static bool open_tree(struct config_job *j) {
    const struct mosaicum_config *r = j->request;
    mosaicum *m = j->m;
    if (!r->source)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "Which sources?  mosaicum config %s … --source LINUX --arch arm64, or the "
                        "name of a board",
                        r->verb);
    const struct mos_kc_world world = {r->source, r->source, r->arch, r->compiler, r->vars};
    run_allow(m, r->source, MOS_REACH_READ);
    if (!has_arch(j))
        return false;
    j->tree = mos_kc_open(&m->ctx, &world);
    j->folder = r->source;
    j->arch = r->arch;
    return j->tree != NULL;
}

/* A file, or one that the tree has for its boards; NULL with the error. */
static const char *start_file(struct config_job *j) {
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
    const char *folder = *arch ? mos_printf(m->arena, "%s/arch/%s/configs", r->source, arch)
                               : mos_printf(m->arena, "%s/configs", r->source);
    const char *near = near_in(m, folder, r->start);
    mos_fail(&m->error, MOS_ERROR_SYSTEM, 0, "There is no start %s, here or in %s%s%s%s", r->start,
             folder, near ? "; did you mean " : "", near ? near : "", near ? "?" : "");
    return NULL;
}

struct mos_config_part *config_part(struct config_job *j, const char *path) {
    mosaicum *m = j->m;
    enum { LARGEST = 64 << 20 };
    run_allow(m, path, MOS_REACH_READ);
    struct mos_source *s = mos_source_load(&m->ctx, path, path, LARGEST);
    return s ? mos_config_read(&m->ctx, path, s) : NULL;
}

static bool read_part(struct config_job *j, const char *path, bool start) {
    struct mos_config_part *part = path ? config_part(j, path) : NULL;
    if (!part)
        return false;
    part->start = start;
    mos_vec_push_pointer(&j->parts, part);
    return true;
}

bool config_parts(struct config_job *j) {
    const struct mosaicum_config *r = j->request;
    j->parts = mos_vec_make(j->m->arena, sizeof(void *));
    if (r->start && !read_part(j, start_file(j), true))
        return false;
    for (size_t i = 0; r->fragments && r->fragments[i]; i++)
        if (!read_part(j, r->fragments[i], false))
            return false;
    return true;
}

/* What only counts beside --source: the board says its own. */
static bool is_whole_board(struct config_job *j) {
    const struct mosaicum_config *r = j->request;
    bool files = r->fragments && strcmp(r->verb, "ask") != 0;
    const char *stray = r->start      ? "--start"
                        : r->arch     ? "--arch"
                        : r->compiler ? "--cc"
                        : r->vars     ? "--var"
                        : files       ? "--fragment"
                                      : NULL;
    return !stray || mos_fail(&j->m->error, MOS_ERROR_USAGE, 0,
                              "%s goes with --source; %s says its own", stray, j->selector);
}

/* The kernel's part of the plan, or the loader's. */
static const struct mos_settled *side(struct config_job *j, const struct mos_plan *plan) {
    const struct mos_board *b = plan->board;
    bool loader = j->request->loader;
    j->said = loader      ? (b->loader ? b->loader->config : NULL)
              : b->kernel ? b->kernel->config
                          : NULL;
    j->arch = loader ? NULL : mos_plan_kernel_arch(plan);
    return loader ? &plan->loader_settled : &plan->kernel_settled;
}

/* Why it is not settled; the first note about this side. */
static const char *why_not(struct config_job *j, const struct mos_settled *s) {
    const char *who = j->request->loader ? "loader" : "kernel";
    const struct mos_vec *notes = &j->task->plan->ctx->not_proved;
    for (size_t i = 0; i < notes->count; i++)
        if (strncmp(mos_vec_pointer(notes, i), "what the ", 9) == 0 &&
            strncmp((const char *)mos_vec_pointer(notes, i) + 9, who, 6) == 0)
            return mos_vec_pointer(notes, i);
    return mos_printf(j->m->arena,
                      s->source ? "its %s has no config:" : "its %s names no source:", who);
}

/* Only what says why it cannot be settled. */
static void keep_reasons(struct mos_findings *list, const struct mos_settled *s) {
    size_t count = s->to - s->from;
    void **items = list->items.items;
    memmove(items, items + s->from, count * sizeof *items);
    list->items.count = count;
}

/* That of a board, as its check sees it. */
static bool settle_board(struct config_job *j) {
    mosaicum *m = j->m;
    if (!is_whole_board(j))
        return false;
    if (!m->options.workspace)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "There is no mosaicum.yaml here or above that could have a board %s",
                        j->selector);
    const struct mos_selection *which = run_select_one(m, j->selector, "config");
    j->task = which ? run_one(m, which) : NULL;
    struct mos_plan *plan = j->task ? run_plan_alone(j->task) : NULL;
    /* what else is wrong with the board is no matter here */
    const struct mos_settled *s = plan ? side(j, plan) : NULL;
    if (!plan || j->task->error.kind || (s->config && !s->whole)) {
        if (plan && s->config && !s->whole)
            keep_reasons(&j->task->ctx.findings, s);
        if (j->task) {
            run_finish(j->task);
            run_collect(m, j->task->result, 1, false);
        }
        return false;
    }
    if (!s->config)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0, "The configuration of %s is not settled: %s",
                        j->selector, why_not(j, s));
    j->config = s->config;
    j->tree = (struct mos_kc_tree *)(uintptr_t)s->config->tree;
    j->all = s->requests;
    j->folder = s->source;
    return true;
}

/* Lines that cannot be read are no settings: nothing is settled without them. */
bool config_settle(struct config_job *j) {
    mosaicum *m = j->m;
    if (j->selector && !j->request->source)
        return settle_board(j);
    if (j->request->loader)
        return mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                        "--of-loader goes with the name of a board: --source says which sources");
    if (!open_tree(j) || !config_parts(j) ||
        mos_findings_count(&m->ctx.findings, MOS_SEVERITY_ERROR))
        return false;
    struct mos_vec all = mos_vec_make(m->arena, sizeof(void *));
    for (size_t i = 0; i < j->parts.count; i++) {
        const struct mos_config_part *part = mos_vec_pointer(&j->parts, i);
        for (size_t k = 0; k < part->settings.count; k++)
            mos_vec_push_pointer(&all, mos_vec_pointer(&part->settings, k));
    }
    j->all = (struct mos_kc_requests){all.items, all.count};
    j->config = mos_kc_with(m->arena, j->tree, &j->all, NULL, 0);
    return true;
}

void config_put(struct config_job *j, const void *text, size_t length) {
    mosaicum *m = j->m;
    run_allow(m, j->request->output, MOS_REACH_READ | MOS_REACH_WRITE);
    run_put(&m->ctx, j->request->output, text, length);
}

/* A symbol by its name, with CONFIG_ or without; NULL with the error. */
const struct mos_kc_symbol *config_symbol(struct config_job *j, const char *name) {
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
