/* The loader's shell: carries out what shell/shell.h reads. */
#include "loaders/u-boot/inside.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

enum { MOST_DEPTH = 40, MOST_STEPS = 20000, MOST_TEXT = 1 << 20 };

static int run_list(struct sim *s, const struct mos_shell_node *list);

/* ---- variables ---- */

/* What stands between two marks: a name, ?, or a name with :-, := or :+ and a text. */
static const char *meaning(struct sim *s, const char *expression) {
    if (strcmp(expression, "?") == 0)
        return mos_printf(s->arena, "%d", own(s)->code);
    const char *colon = strchr(expression, ':');
    const char *name =
        colon ? mos_strndup(s->arena, expression, (size_t)(colon - expression)) : expression;
    const char *value = sim_get(s, name);
    if (!value)
        value = mos_map_get(&own(s)->locals, name);
    if (!value && !s->rig->tree && strcmp(name, "fdtcontroladdr") == 0)
        sim_undecided(s, "which tree the loader has of its own (--tree FILE)");
    if (!colon)
        return value ? value : "";
    bool set = value && *value;
    if (colon[1] == '+')
        return set ? "" : colon + 2;
    if (set)
        return value;
    if (colon[1] == '=')
        mos_map_set(&own(s)->locals, name, mos_strdup(s->arena, colon + 2));
    return colon[1] == '-' || colon[1] == '=' ? colon + 2 : "";
}

static const char *expand(struct sim *s, const char *word) {
    assert(word);
    struct mos_buf b = {.arena = s->arena};
    for (const char *p = word; *p;) {
        const char *mark = strchr(p, MOS_SHELL_MARK), *end;
        if (!mark || !(end = strchr(mark + 1, MOS_SHELL_MARK))) {
            mos_buf_text(&b, p);
            break;
        }
        mos_buf_add(&b, p, (size_t)(mark - p));
        mos_buf_text(&b, meaning(s, mos_strndup(s->arena, mark + 1, (size_t)(end - mark - 1))));
        p = end + 1;
    }
    return mos_buf_string(&b);
}

/* ---- commands ---- */

static bool is_assignment(const char *word) {
    size_t n = 0;
    while (isalnum((unsigned char)word[n]) || word[n] == '_')
        n++;
    return n && isalpha((unsigned char)*word) && word[n] == '=';
}

static const char *word_text(const struct mos_shell_node *n, size_t i) {
    return ((const struct mos_shell_word *)mos_vec_at(&n->words, i))->text;
}

/* A command whose words are known is run; with variables it becomes text, which is read again. */
static int run_words(struct sim *s, const struct mos_shell_node *n, size_t first) {
    size_t count = n->words.count - first;
    const char **words = mos_alloc_array(s->arena, count + 1, sizeof *words);
    if (!n->variables) {
        for (size_t i = 0; i < count; i++)
            words[i] = word_text(n, first + i);
        return own(s)->command(s, (int)count, words);
    }
    struct mos_buf text = {.arena = s->arena};
    for (size_t i = first; i < n->words.count; i++) {
        const struct mos_shell_word *w = mos_vec_at(&n->words, i);
        mos_buf_printf(&text, "%s%s%s%s", i > first ? " " : "", w->quoted ? "'" : "",
                       expand(s, w->text), w->quoted ? "'" : "");
    }
    mos_buf_char(&text, '\n');
    return ub_run_text(s, mos_buf_string(&text), text.length, MOS_SHELL_AGAIN);
}

static int run_simple(struct sim *s, const struct mos_shell_node *n) {
    size_t first = 0;
    for (; first < n->words.count && is_assignment(word_text(n, first)); first++) {
        const char *word = word_text(n, first), *equals = strchr(word, '=');
        mos_map_set_const(&own(s)->locals, mos_strndup(s->arena, word, (size_t)(equals - word)),
                          expand(s, equals + 1));
    }
    return first == n->words.count ? 0 : run_words(s, n, first);
}

/* ---- loops and choices ---- */

/* The words behind `in`, cut at blanks whatever quotes they had. */
static struct mos_vec loop_words(struct sim *s, const struct mos_shell_node *n) {
    struct mos_vec out = mos_vec_make(s->arena, sizeof(char *));
    for (size_t i = 1; i < n->words.count; i++) {
        const char *p = expand(s, word_text(n, i));
        while (*(p += strspn(p, " \t"))) {
            size_t length = strcspn(p, " \t");
            mos_vec_push_pointer(&out, mos_strndup(s->arena, p, length));
            p += length;
        }
    }
    return out;
}

static int run_for(struct sim *s, const struct mos_shell_node *n) {
    struct mos_vec words = loop_words(s, n);
    const char *name = word_text(n, 0);
    int code = own(s)->code;
    for (size_t i = 0; i < words.count && !s->stop; i++) {
        mos_map_set(&own(s)->locals, name, mos_vec_pointer(&words, i));
        own(s)->code = 0;
        code = run_list(s, n->body);
    }
    return code;
}

static int run_while(struct sim *s, const struct mos_shell_node *n) {
    int code = 0;
    while (!s->stop) {
        code = run_list(s, n->condition);
        if ((code == 0) != (n->kind == MOS_SHELL_WHILE))
            break;
        run_list(s, n->body);
        if (++s->steps > MOST_STEPS)
            s->stop = SIM_ENDLESS;
    }
    return code;
}

static int run_if(struct sim *s, const struct mos_shell_node *n) {
    for (;;) {
        int code = run_list(s, n->condition);
        if (s->stop)
            return code;
        if (code == 0)
            return run_list(s, n->body);
        if (!n->otherwise)
            return code;
        if (n->otherwise->kind != MOS_SHELL_IF || n->otherwise->next)
            return run_list(s, n->otherwise);
        n = n->otherwise;
    }
}

static int run_node(struct sim *s, const struct mos_shell_node *n) {
    if (++s->steps > MOST_STEPS)
        s->stop = SIM_ENDLESS;
    if (s->stop)
        return 1;
    switch (n->kind) {
    case MOS_SHELL_IF:
        return run_if(s, n);
    case MOS_SHELL_FOR:
        return run_for(s, n);
    case MOS_SHELL_WHILE:
    case MOS_SHELL_UNTIL:
        return run_while(s, n);
    case MOS_SHELL_COMMAND:
        break;
    }
    return run_simple(s, n);
}

/* Once && or || leaves something out, all is left out up to the next ; or line. */
static int run_list(struct sim *s, const struct mos_shell_node *list) {
    bool skip = false;
    int code = 0;
    for (const struct mos_shell_node *n = list; n && !s->stop; n = n->next) {
        if (!skip) {
            code = run_node(s, n);
            own(s)->code = code;
            skip =
                (code == 0 && n->join == MOS_SHELL_OR) || (code != 0 && n->join == MOS_SHELL_AND);
        } else if (n->join == MOS_SHELL_THEN) {
            skip = false;
        }
    }
    return code;
}

/* Behind a syntax error in the midst of a script the loader looks for more at address 0
 * (common/cli_hush.c: parse_stream_outer, b_peek).  A 32-bit or 64-bit Arm has something there, as
 * a rule; a RISC-V has not, and stops. */
static void look_at_nothing(struct sim *s) {
    const struct mos_rig *m = s->rig;
    if (!m->cpu || strncmp(m->cpu, "riscv", 5) != 0 || !m->ram.length || !m->ram.start)
        return;
    sim_trouble(s, "Unhandled exception: Load access fault (the loader reads at address 0)");
    s->stop = SIM_RESET;
}

int ub_run_text(struct sim *s, const char *text, size_t length, unsigned flags) {
    assert(text || !length);
    int code = 1;
    if (s->depth >= MOST_DEPTH) {
        s->stop = SIM_ENDLESS;
        return 1;
    }
    if (length > MOST_TEXT)
        return sim_trouble(s, "the text is longer than the loader could hold");
    s->depth += !(flags & MOS_SHELL_AGAIN);
    for (size_t at = 0; !s->stop;) {
        struct mos_shell_node *list;
        enum mos_shell_result r = mos_shell_read(s->arena, text, length, &at, flags, &list);
        if (r == MOS_SHELL_DONE)
            break;
        if (r != MOS_SHELL_LIST) {
            s->word_count = 0;
            sim_trouble(s, "syntax error");
            if (r == MOS_SHELL_WRONG && !(flags & (MOS_SHELL_WHOLE | MOS_SHELL_AGAIN)))
                look_at_nothing(s);
            break;
        }
        code = run_list(s, list);
        if (flags & MOS_SHELL_AGAIN)
            break;
    }
    s->depth -= !(flags & MOS_SHELL_AGAIN);
    assert(s->depth < MOST_DEPTH);
    if (flags & MOS_SHELL_AGAIN)
        return own(s)->code;
    return code != 0;
}

int ub_run_nested(struct sim *s, const char *variable, const char *text, unsigned flags) {
    const char *around = s->variable;
    const char *const *words = s->words;
    int count = s->word_count;
    s->variable = variable ? mos_strdup(s->arena, variable) : NULL;
    s->words = NULL;
    s->word_count = 0;
    int code = ub_run_text(s, text, strlen(text), flags);
    s->variable = around;
    s->words = words;
    s->word_count = count;
    return code;
}

int ub_run_variable(struct sim *s, const char *name) {
    assert(name);
    const char *text = sim_get(s, name);
    if (!text)
        return sim_trouble(s, "## Error: \"%s\" not defined", name);
    sim_event(s, MOS_EVENT_RUN, 0, 0, NULL, "%s", name);
    text = mos_printf(s->arena, "%s\n", text);
    return ub_run_nested(s, name, text, MOS_SHELL_WHOLE);
}
