/* What scripts do, in the order of their text: commands are followed from bootcmd through every
 * `run`; what loops do is marked. */
#include "loaders/u-boot/u-boot.h"

#include "loaders/u-boot/shell.h"

#include <assert.h>
#include <string.h>

enum { MOST_DEPTH = 16, MOST_STEPS = 4096 };

const struct mos_loader_verb ub_verbs[] = {
    {"load", 3, 0, 4},     {"fatload", 3, 0, 4}, {"ext4load", 3, 0, 4}, {"ext2load", 3, 0, 4},
    {"tftpboot", 1, 0, 0}, {"tftp", 1, 0, 0},    {"dhcp", 1, 0, 0},     {"nfs", 1, 0, 0},
    {"source", 0, 1, 0},   {"booti", 0, 1, 0},   {"bootz", 0, 1, 0},    {"bootm", 0, 1, 0},
    {"mmc", 2, 0, 0},      {"nvme", 2, 0, 0},    {"virtio", 2, 0, 0},   {"usb", 2, 0, 0},
    {"sf", 2, 0, 0},       {"nand", 2, 0, 0},    {NULL, 0, 0, 0}};

struct walk {
    const struct mos_map *variables;
    struct mos_arena *arena;
    struct mos_vec steps; /* of struct mos_step */
    const struct mos_loader_variable *path[MOST_DEPTH];
    unsigned depth, loops;
};

static void note(struct walk *w, enum mos_deed deed, const char *what, const char *command) {
    assert(w->depth && w->depth <= MOST_DEPTH);
    if (w->steps.count < MOST_STEPS)
        *(struct mos_step *)mos_vec_push(&w->steps) =
            (struct mos_step){deed, what, command, w->path[w->depth - 1], w->loops != 0};
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
            note(w, MOS_DEED_USES, name, command);
        p = end + 1;
    }
    mos_buf_text(&b, p);
    return mos_buf_string(&b);
}

static void walk_variable(struct walk *w, const char *name);

static void walk_command(struct walk *w, const struct mos_vec *words) {
    assert(words->count);
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
        note(w, MOS_DEED_SETS, text[1], name);
    const struct mos_loader_verb *v = ub_verbs;
    while (v->name && strcmp(v->name, name) != 0)
        v++;
    if (v->name && v->loads_to && text[v->loads_to])
        note(w, MOS_DEED_LOADS, address(w, text[v->loads_to]), name);
    if (v->name && v->starts_at && text[v->starts_at])
        note(w, MOS_DEED_STARTS, address(w, text[v->starts_at]), name);
}

static void walk_list(struct walk *w, const struct mos_shell_node *n) {
    for (; n; n = n->next) {
        bool loop = n->kind != MOS_SHELL_COMMAND && n->kind != MOS_SHELL_IF;
        w->loops += loop;
        if (n->kind == MOS_SHELL_COMMAND && n->words.count)
            walk_command(w, &n->words);
        if (n->kind == MOS_SHELL_FOR && n->words.count)
            note(w, MOS_DEED_SETS, ((struct mos_shell_word *)mos_vec_at(&n->words, 0))->text,
                 "for");
        walk_list(w, n->condition);
        walk_list(w, n->body);
        walk_list(w, n->otherwise);
        w->loops -= loop;
    }
}

static void walk_variable(struct walk *w, const char *name) {
    const struct mos_loader_variable *s = mos_map_get(w->variables, name);
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

struct mos_vec ub_follow(struct mos_arena *arena, const struct mos_map *variables) {
    struct walk w = {.variables = variables,
                     .arena = arena,
                     .steps = mos_vec_make(arena, sizeof(struct mos_step))};
    walk_variable(&w, "bootcmd");
    return w.steps;
}
