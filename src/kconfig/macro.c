#include "kconfig/macro.h"

#include <ctype.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

enum { MOST_ARGUMENTS = 16, DEEPEST = 64, MOST_BYTES = 16 << 20 };

struct mos_kc_variable {
    const char *value;
    bool recursive; /* it is expanded where it is used */
    bool busy;
};

/* $(1), $(2) … of the function that is being expanded. */
struct arguments {
    const char *items[MOST_ARGUMENTS];
    size_t count;
};

bool mos_kc_wrong(struct mos_ctx *ctx, struct mos_place place, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char text[400];
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    if (!place.source)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "%s", text);
    struct mos_position p = mos_source_position(place.source, place.offset);
    return mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "%s:%u:%u: %s", place.source->shown_path,
                    p.line, p.column, text);
}

static bool expand(struct mos_kc_macros *m, const char *text, size_t length,
                   const struct arguments *given, struct mos_buf *out);

/* ---- built-in functions ---- */

static bool call_shell(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out) {
    const char *result = mos_kc_probe(m->probes, a->items[1]);
    if (!result)
        return false;
    mos_vec_push_pointer(m->answers, result);
    mos_buf_text(out, result);
    return true;
}

static bool call_info(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out) {
    (void)out;
    mos_vec_push_pointer(m->said, mos_strndup(m->arena, a->items[1], strlen(a->items[1])));
    return true;
}

static bool call_warning(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out) {
    (void)out;
    unsigned line = mos_source_position(m->place.source, m->place.offset).line;
    if (strcmp(a->items[1], "y") == 0)
        mos_vec_push_pointer(m->said,
                             mos_printf(m->arena, "%s:%u: %s", m->path, line, a->items[2]));
    return true;
}

static bool call_error(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out) {
    (void)out;
    return strcmp(a->items[1], "y") != 0 || mos_kc_wrong(m->ctx, m->place, "%s", a->items[2]);
}

static bool call_filename(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out) {
    (void)a;
    mos_buf_text(out, m->path);
    return true;
}

static bool call_lineno(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out) {
    (void)a;
    mos_buf_printf(out, "%u", mos_source_position(m->place.source, m->place.offset).line);
    return true;
}

static const struct {
    const char *name;
    size_t count; /* of arguments */
    bool (*call)(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out);
} functions[] = {{"shell", 1, call_shell},        {"info", 1, call_info},
                 {"warning-if", 2, call_warning}, {"error-if", 2, call_error},
                 {"filename", 0, call_filename},  {"lineno", 0, call_lineno}};

static bool call_function(struct mos_kc_macros *m, const struct arguments *a, struct mos_buf *out) {
    const char *name = a->items[0];
    for (size_t i = 0; i < sizeof functions / sizeof *functions; i++) {
        if (strcmp(functions[i].name, name) != 0)
            continue;
        if (a->count - 1 != functions[i].count)
            return mos_kc_wrong(m->ctx, m->place, "$(%s) takes %zu argument%s, and has %zu", name,
                                functions[i].count, functions[i].count == 1 ? "" : "s",
                                a->count - 1);
        return functions[i].call(m, a, out);
    }
    if (a->count > 1)
        return mos_kc_wrong(m->ctx, m->place, "There is no function %s", name);
    const char *value = mos_map_get(m->vars, name); /* of the environment; none is empty */
    value = value ? value : "";
    if (!mos_map_get(m->used, name))
        mos_map_set_const(m->used, mos_strndup(m->arena, name, strlen(name)), value);
    mos_buf_text(out, value);
    return true;
}

static bool call(struct mos_kc_macros *m, const struct arguments *a, const struct arguments *above,
                 struct mos_buf *out) {
    const char *name = a->items[0];
    char *end = NULL;
    size_t number = 0;
    for (end = (char *)name; isdigit((unsigned char)*end) && number < 1000; end++)
        number = 10 * number + (size_t)(*end - '0');
    if (*name && !*end) {
        if (above && number < above->count)
            mos_buf_text(out, above->items[number]);
        return true;
    }
    struct mos_kc_variable *v = mos_map_get(&m->own, name);
    if (!v)
        return call_function(m, a, out);
    if (!v->recursive) {
        mos_buf_text(out, v->value);
        return true;
    }
    if (v->busy)
        return mos_kc_wrong(m->ctx, m->place, "$(%s) expands to itself", name);
    v->busy = a->count < 2; /* with arguments it may well end */
    bool good = expand(m, v->value, strlen(v->value), a, out);
    v->busy = false;
    return good;
}

/* ---- texts ---- */

/* Behind the parenthesis that closes the one before `p`; NULL: there is none. */
static const char *closing(const char *p, const char *limit) {
    for (unsigned open = 1; p < limit; p++) {
        open += *p == '(';
        if (*p == ')' && --open == 0)
            return p;
    }
    return NULL;
}

static bool reference(struct mos_kc_macros *m, const char *at, const char *limit,
                      const struct arguments *given, const char **end, struct mos_buf *out) {
    const char *p = at + 2, *close = closing(p, limit);
    if (!close)
        return mos_kc_wrong(m->ctx, m->place, "$( has no closing parenthesis on this line");
    if (++m->depth > DEEPEST)
        return mos_kc_wrong(m->ctx, m->place, "Macros are nested more than %d deep", DEEPEST);
    *end = close + 1;
    struct arguments a = {.count = 0};
    unsigned open = 0;
    for (const char *from = p;; p++) {
        if (p < close && *p == '(')
            open++;
        if (p < close && *p == ')')
            open--;
        if (p < close && (*p != ',' || open))
            continue;
        if (a.count == MOST_ARGUMENTS)
            return mos_kc_wrong(m->ctx, m->place, "A macro has more than %d arguments",
                                MOST_ARGUMENTS - 1);
        struct mos_buf item = {.arena = m->arena};
        if (!expand(m, from, (size_t)(p - from), given, &item))
            return false;
        a.items[a.count++] = mos_buf_string(&item);
        from = p + 1;
        if (p == close)
            break;
    }
    size_t before = out->length;
    bool good = call(m, &a, given, out);
    m->depth--;
    m->grown += out->length - before;
    if (good && m->grown > MOST_BYTES)
        return mos_kc_wrong(m->ctx, m->place, "Macros came to more than %d MiB", MOST_BYTES >> 20);
    return good;
}

static bool expand(struct mos_kc_macros *m, const char *text, size_t length,
                   const struct arguments *given, struct mos_buf *out) {
    for (const char *p = text, *limit = text + length; p < limit;) {
        const char *dollar = memchr(p, '$', (size_t)(limit - p));
        mos_buf_add(out, p, (size_t)((dollar ? dollar : limit) - p));
        if (!dollar)
            break;
        if (dollar + 1 < limit && dollar[1] == '(') {
            if (!reference(m, dollar, limit, given, &p, out))
                return false;
        } else {
            mos_buf_char(out, '$');
            p = dollar + 1;
        }
    }
    return true;
}

bool mos_kc_expand(struct mos_kc_macros *m, const char *text, size_t length, struct mos_buf *out) {
    m->depth = 0;
    return expand(m, text, length, NULL, out);
}

bool mos_kc_expand_one(struct mos_kc_macros *m, const char *at, const char *limit, const char **end,
                       struct mos_buf *out) {
    m->depth = 0;
    return reference(m, at, limit, NULL, end, out);
}

bool mos_kc_assign(struct mos_kc_macros *m, const char *name, char op, const char *value) {
    struct mos_kc_variable *old = mos_map_get(&m->own, name);
    struct mos_buf text = {.arena = m->arena};
    bool recursive = op == '=' || (op == '+' && (!old || old->recursive));
    if (op == '+' && old)
        mos_buf_printf(&text, "%s ", old->value);
    if (recursive)
        mos_buf_text(&text, value);
    else if (!mos_kc_expand(m, value, strlen(value), &text))
        return false;
    struct mos_kc_variable *v = mos_alloc(m->arena, sizeof *v);
    *v = (struct mos_kc_variable){.value = mos_buf_string(&text), .recursive = recursive};
    mos_map_set(&m->own, name, v);
    return true;
}
