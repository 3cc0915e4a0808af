#include "kconfig/build-inside.h"

#include "base/text.h"

#include <string.h>

enum { DEEPEST_IF = 16 };

static bool is_word(char c) {
    return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_';
}

struct makefile {
    struct mos_arena *arena;
    struct mos_kc_build *b;
    const char *folder;                 /* with its slash, or "" */
    bool is_top;                        /* of the sources, or of their architecture */
    const char *conditions[DEEPEST_IF]; /* that are open: "A=y", "!A", "?" … */
    bool passed[DEEPEST_IF];            /* … of which the first part is over */
    size_t open;
};

/* What must be so besides, of all conditions that are open; NULL: nothing. */
static const char *guard_of(const struct makefile *m, const char *more) {
    struct mos_buf b = {.arena = m->arena};
    for (size_t i = 0; i < m->open; i++)
        mos_buf_printf(&b, "%s%s", b.length ? " " : "", i < DEEPEST_IF ? m->conditions[i] : "?");
    if (more)
        mos_buf_printf(&b, "%s%s", b.length ? " " : "", more);
    return b.length ? mos_buf_string(&b) : NULL;
}

static const char *opposite(struct mos_arena *arena, const char *condition) {
    return *condition == '?'   ? "?"
           : *condition == '!' ? condition + 1
                               : mos_printf(arena, "!%s", condition);
}

/* "CONFIG_X", "($(CONFIG_X),y)", "($(CONFIG_X), )" → "X", "X=y", "!X"; else "?". */
static const char *read_condition(struct mos_arena *arena, const char *p, bool compares) {
    const char *before = compares ? "($(CONFIG_" : "CONFIG_";
    if (strncmp(p, before, strlen(before)) != 0)
        return "?";
    const char *name = p + strlen(before), *rest = name;
    while (is_word(*rest))
        rest++;
    int n = (int)(rest - name);
    if (!n || (compares && strncmp(rest, "),", 2) != 0))
        return "?";
    if (!compares)
        return rest[strspn(rest, " \t")] ? "?" : mos_printf(arena, "%.*s", n, name);
    rest += 2;
    rest += strspn(rest, " \t");
    if (*rest == ')')
        return mos_printf(arena, "!%.*s", n, name);
    return (*rest == 'y' || *rest == 'm') && rest[1] == ')'
               ? mos_printf(arena, "%.*s=%c", n, name, *rest)
               : "?";
}

/* The other part of what is open, or one more. */
static void read_else(struct makefile *m) {
    if (!m->open || m->open > DEEPEST_IF)
        return;
    const char **top = &m->conditions[m->open - 1];
    bool *passed = &m->passed[m->open - 1];
    *top = *passed ? "?" : opposite(m->arena, *top);
    *passed = true;
}

/* A condition that opens, or that is one more part of what is open. */
static void add_condition(struct makefile *m, const char *one, bool otherwise) {
    if (!otherwise) {
        if (m->open < DEEPEST_IF) {
            m->conditions[m->open] = one;
            m->passed[m->open] = false;
        }
        m->open++;
    } else if (m->open && m->open <= DEEPEST_IF) {
        const char **top = &m->conditions[m->open - 1];
        *top = mos_printf(m->arena, "%s %s", *top, one);
    }
}

static size_t word_length(const char *p) {
    size_t n = 0;
    while (is_word(p[n]))
        n++;
    return n;
}

/* ifdef, ifeq, their other parts and ends; false: the line is something else. */
static bool read_conditional(struct makefile *m, const char *p) {
    static const struct {
        const char *word;
        bool compares, negative;
    } words[] = {{"ifdef", false, false},
                 {"ifndef", false, true},
                 {"ifeq", true, false},
                 {"ifneq", true, true}};
    size_t n = word_length(p);
    bool otherwise = n == 4 && strncmp(p, "else", n) == 0;
    if (n == 5 && strncmp(p, "endif", n) == 0) {
        m->open -= m->open != 0;
        return true;
    }
    if (otherwise) {
        read_else(m);
        p += n + strspn(p + n, " \t");
        n = word_length(p);
    }
    for (size_t i = 0; i < sizeof words / sizeof *words; i++) {
        if (n != strlen(words[i].word) || strncmp(p, words[i].word, n) != 0)
            continue;
        const char *one = read_condition(m->arena, p + n + strspn(p + n, " \t"), words[i].compares);
        add_condition(m, words[i].negative ? opposite(m->arena, one) : one, otherwise);
        return true;
    }
    return otherwise;
}

/* What a line says of all its objects. */
struct rule_line {
    const char *of, *symbol, *guard;
    bool from_top; /* folders as the top of the sources calls them */
};

static void add_rule(struct makefile *m, const char *object, size_t length,
                     const struct rule_line *line) {
    static const char *const tops[] = {"$(objtree)/", "$(srctree)/"};
    struct mos_arena *arena = m->arena;
    for (size_t i = 0; line->from_top && i < sizeof tops / sizeof *tops; i++)
        if (length > strlen(tops[i]) && strncmp(object, tops[i], strlen(tops[i])) == 0) {
            object += strlen(tops[i]);
            length -= strlen(tops[i]);
        }
    bool folder = object[length - 1] == '/';
    if (line->from_top && length > 6 && strncmp(object + length - 6, "/lib.a", 6) == 0) {
        folder = true;
        length -= 5;
    }
    if (!folder && (line->from_top || length < 3 || strncmp(object + length - 2, ".o", 2) != 0))
        return;
    if (*object == '-' || memchr(object, '$', length))
        return;
    *(struct mos_kc_rule *)mos_vec_push(&m->b->rules) = (struct mos_kc_rule){
        mos_printf(arena, "%s%.*s", line->from_top ? "" : m->folder, (int)length, object), line->of,
        line->symbol, line->guard};
}

static bool is_symbol(const char *p, size_t n) {
    for (size_t i = 0; i < n; i++)
        if (!is_word(p[i]))
            return false;
    return n != 0;
}

/* "$(CONFIG_X)" → X; "$(subst m,y,$(CONFIG_X))" → the guard X; "y": always.  false: neither. */
static bool condition_of(struct makefile *m, const char *p, size_t n, struct rule_line *out) {
    static const char both[] = "$(subst m,y,$(CONFIG_";
    size_t before = sizeof both - 1;
    if ((n == 1 && (*p == 'y' || *p == 'm')) || (n == 4 && strncmp(p, "objs", 4) == 0)) {
        out->guard = guard_of(m, *p == 'm' ? "m" : NULL);
        return true;
    }
    if (n > before + 2 && strncmp(p, both, before) == 0 && strncmp(p + n - 2, "))", 2) == 0 &&
        is_symbol(p + before, n - before - 2)) {
        out->guard = guard_of(m, mos_strndup(m->arena, p + before, n - before - 2));
        return true;
    }
    if (n < 11 || strncmp(p, "$(CONFIG_", 9) != 0 || p[n - 1] != ')' || !is_symbol(p + 9, n - 10))
        return false;
    out->symbol = mos_strndup(m->arena, p + 9, n - 10);
    out->guard = guard_of(m, NULL);
    return true;
}

/* Where the condition begins in what stands before "+="; NULL: nowhere. */
static const char *last_dash(const char *p, const char *end) {
    const char *dash = NULL;
    for (; p < end && *p != '$'; p++)
        if (*p == '-')
            dash = p;
    return dash;
}

/* One logical line: NAME-CONDITION += OBJECTS */
static void read_rule(struct makefile *m, const char *line) {
    static const char *const tops[] = {"core", "libs", "drivers", "net", "virt"};
    struct mos_arena *arena = m->arena;
    const char *p = line + strspn(line, " \t"), *equals = strchr(p, '='), *end = equals;
    struct rule_line out = {0};
    if (*line == '\t' || read_conditional(m, p) || !equals)
        return;
    while (end > p && strchr("+:? \t", end[-1]))
        end--;
    const char *dash = last_dash(p, end);
    if (!dash || !condition_of(m, dash + 1, (size_t)(end - dash - 1), &out))
        return;
    const char *name = mos_strndup(arena, p, (size_t)(dash - p));
    if (strchr(name, ' ') || strchr(name, '\t'))
        return;
    if (mos_text_ends(name, "-objs")) /* NAME-objs-y, or -$(CONFIG_X) */
        name = mos_strndup(arena, name, strlen(name) - 5);
    bool whole = strcmp(name, "obj") == 0 || strcmp(name, "lib") == 0;
    for (size_t i = 0; m->is_top && i < sizeof tops / sizeof *tops; i++)
        out.from_top |= strcmp(name, tops[i]) == 0;
    if (!whole && !out.from_top)
        out.of = mos_printf(arena, "%s%s.o", m->folder, name);
    for (p = equals + 1; *(p += strspn(p, " \t")); p += strcspn(p, " \t"))
        add_rule(m, p, strcspn(p, " \t"), &out);
}

/* "Makefile", "arch/arm64/Makefile" */
static bool is_top(const char *file) {
    const char *slash = strncmp(file, "arch/", 5) == 0 ? strchr(file + 5, '/') : NULL;
    return strcmp(slash ? slash + 1 : file, "Makefile") == 0;
}

void mos_kc_build_read_rules(struct mos_arena *arena, struct mos_kc_build *b, const char *file,
                             const char *text) {
    const char *slash = strrchr(file, '/');
    struct makefile m = {.arena = arena,
                         .b = b,
                         .folder =
                             slash ? mos_strndup(arena, file, (size_t)(slash + 1 - file)) : "",
                         .is_top = is_top(file)};
    struct mos_buf line = {.arena = arena};
    for (size_t n; *text; text += n + (text[n] != 0)) {
        n = strcspn(text, "\n");
        size_t used = strcspn(text, "#\n"), kept = used < n ? used : n;
        bool more = kept == n && kept && text[kept - 1] == '\\';
        mos_buf_add(&line, text, kept - more);
        if (more) {
            mos_buf_char(&line, ' ');
            continue;
        }
        read_rule(&m, mos_buf_string(&line));
        line.length = 0;
    }
}
