/* The order of what a script does: something is started before it was loaded, or a variable used
 * before it is set.  Commands are followed from bootcmd through every `run`, in the order of the
 * text; what loops do is not judged. */
#include "rules/rules.h"

#include "shell/shell.h"

#include <string.h>

enum { MOST_DEPTH = 16, MOST_STEPS = 4096 };

enum deed { LOADS, STARTS, SETS, USES };

struct step {
    enum deed deed;
    const char *what;            /* an address or a variable, as it is written */
    const char *command;         /* that does it */
    const struct mos_setenv *by; /* the variable with the script */
    bool in_loop;
};

struct walk {
    const struct mos_plan *plan;
    const struct mos_environment_plan *env;
    struct mos_arena *arena;
    struct mos_vec steps; /* of struct step */
    const struct mos_setenv *path[MOST_DEPTH];
    unsigned depth, loops;
};

static void note(struct walk *w, enum deed deed, const char *what, const char *command) {
    if (w->steps.count < MOST_STEPS)
        *(struct step *)mos_vec_push(&w->steps) =
            (struct step){deed, what, command, w->path[w->depth - 1], w->loops != 0};
}

/* "0x48000000" and "48000000" are one place; so is "${kernel_addr_r}" with any size behind it. */
static const char *address(struct walk *w, const char *text) {
    if (strncmp(text, "0x", 2) == 0)
        text += 2;
    return mos_strndup(w->arena, text, strcspn(text, ":#"));
}

/* A word with its variables written out, each of them noted. */
static const char *word_text(struct walk *w, const struct mos_shell_word *word,
                             const char *command) {
    struct mos_buf b = {.arena = w->arena};
    const char *p = word->text;
    for (const char *open; (open = strchr(p, MOS_SHELL_MARK));) {
        const char *end = strchr(open + 1, MOS_SHELL_MARK);
        if (!end)
            break;
        const char *name = mos_strndup(w->arena, open + 1, (size_t)(end - open) - 1);
        mos_buf_add(&b, p, (size_t)(open - p));
        mos_buf_printf(&b, "${%s}", name);
        if (!strpbrk(name, ":-?"))
            note(w, USES, name, command);
        p = end + 1;
    }
    mos_buf_text(&b, p);
    return mos_buf_string(&b);
}

static void walk_variable(struct walk *w, const char *name);

static void walk_command(struct walk *w, const struct mos_vec *words) {
    const char *text[8] = {0}, *name = ((struct mos_shell_word *)mos_vec_at(words, 0))->text;
    bool asks = strcmp(name, "test") == 0 || strcmp(name, "[") == 0 || strcmp(name, "env") == 0;
    for (size_t i = 0; i < words->count && !asks; i++) {
        const char *t = word_text(w, mos_vec_at(words, i), name);
        if (i < 8)
            text[i] = t;
    }
    if (asks || !text[1])
        return;
    if (strcmp(name, "run") == 0)
        for (size_t i = 1; i < 8 && text[i]; i++)
            walk_variable(w, text[i]);
    if (strcmp(name, "setenv") == 0 || strcmp(name, "setexpr") == 0)
        note(w, SETS, text[1], name);
    const struct mos_loader_verb *v = w->plan->dialect->verbs;
    while (v->name && strcmp(v->name, name) != 0)
        v++;
    if (v->name && v->loads_to && text[v->loads_to])
        note(w, LOADS, address(w, text[v->loads_to]), name);
    if (v->name && v->starts_at && text[v->starts_at])
        note(w, STARTS, address(w, text[v->starts_at]), name);
}

static void walk_list(struct walk *w, const struct mos_shell_node *n) {
    for (; n; n = n->next) {
        bool loop = n->kind != MOS_SHELL_COMMAND && n->kind != MOS_SHELL_IF;
        w->loops += loop;
        if (n->kind == MOS_SHELL_COMMAND && n->words.count)
            walk_command(w, &n->words);
        if (n->kind == MOS_SHELL_FOR && n->words.count)
            note(w, SETS, ((struct mos_shell_word *)mos_vec_at(&n->words, 0))->text, "for");
        walk_list(w, n->condition);
        walk_list(w, n->body);
        walk_list(w, n->otherwise);
        w->loops -= loop;
    }
}

static void walk_variable(struct walk *w, const char *name) {
    const struct mos_setenv *s = mos_map_get(&w->env->variables, name);
    bool again = !s || w->depth >= MOST_DEPTH;
    for (unsigned i = 0; i < w->depth && !again; i++)
        again = w->path[i] == s;
    if (again)
        return;
    w->path[w->depth++] = s;
    size_t at = 0, length = strlen(s->value);
    struct mos_shell_node *list;
    while (mos_shell_read(w->arena, s->value, length, &at, 0, &list) == MOS_SHELL_LIST)
        walk_list(w, list);
    w->depth--;
}

static const struct step *find(const struct walk *w, enum deed deed, const char *what, size_t from,
                               size_t to) {
    for (size_t i = from; i < to; i++) {
        const struct step *s = mos_vec_at(&w->steps, i);
        if (s->deed == deed && strcmp(s->what, what) == 0)
            return s;
    }
    return NULL;
}

static bool is_known(const struct walk *w, const char *name) {
    return mos_map_get(&w->env->variables, name) || w->plan->dialect->sets_variable(name);
}

static void complain(const struct walk *w, const struct step *early, const struct step *late) {
    struct mos_findings *list = &w->plan->ctx->findings;
    bool starts = early->deed == STARTS;
    struct mos_finding *f =
        starts ? mos_find(list, MOS_RULE_BOOT_SCRIPT_ORDER,
                          "Variable %s runs %s at %s before anything is loaded there.",
                          early->by->name, early->command, early->what)
               : mos_find(list, MOS_RULE_BOOT_SCRIPT_ORDER,
                          "Variable %s uses ${%s} before it is set.", early->by->name, early->what);
    mos_finding_at(list, f, early->by->place);
    if (late->by != early->by)
        mos_finding_at(list, f, late->by->place);
    mos_finding_why(list, f, "%s comes later%s%s.", late->command,
                    late->by != early->by ? ", in " : "",
                    late->by != early->by ? late->by->name : "");
    mos_finding_try(list, f, "%s first.", late->command);
}

/* One finding an environment: the first mistake stops the board. */
static void judge(const struct walk *w) {
    for (size_t i = 0; i < w->steps.count; i++) {
        const struct step *s = mos_vec_at(&w->steps, i);
        enum deed cure = s->deed == STARTS ? LOADS : SETS;
        if (s->in_loop || (s->deed != STARTS && s->deed != USES) ||
            (s->deed == USES && is_known(w, s->what)) || find(w, cure, s->what, 0, i))
            continue;
        const struct step *late = find(w, cure, s->what, i + 1, w->steps.count);
        if (!late)
            continue;
        complain(w, s, late);
        return;
    }
}

void mos_rule_order(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->environments.count && plan->dialect; i++) {
        struct walk w = {.plan = plan,
                         .env = mos_vec_pointer(&plan->environments, i),
                         .arena = plan->ctx->arena,
                         .steps = mos_vec_make(plan->ctx->arena, sizeof(struct step))};
        walk_variable(&w, "bootcmd");
        judge(&w);
    }
}
