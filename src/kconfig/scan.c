#include "kconfig/parse.h"

#include <ctype.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

struct mos_place kc_place(const struct kc_parser *p) {
    return mos_place_at(p->file->source, p->token.offset, p->token.length);
}

bool kc_wrong(struct kc_parser *p, const char *format, ...) {
    va_list arguments;
    char text[300];
    va_start(arguments, format);
    vsnprintf(text, sizeof text, format, arguments);
    va_end(arguments);
    return mos_kc_wrong(p->ctx, kc_place(p), "%s", text);
}

static bool is_word(char c) {
    return isalnum((unsigned char)c) || c == '_' || c == '-' || c == '.' || c == '/';
}

/* Behind blanks, lines that go on behind a backslash, and a comment. */
static const char *skip(const char *p, const char *limit) {
    while (p < limit) {
        if (*p == ' ' || *p == '\t' || *p == '\r' || *p == '\f')
            p++;
        else if (*p == '\\' && p + 1 < limit && p[1] == '\n')
            p += 2;
        else
            break;
    }
    if (p < limit && *p == '#') {
        const char *end = memchr(p, '\n', (size_t)(limit - p));
        p = end ? end : limit;
    }
    return p;
}

static const char *limit_of(const struct kc_file *f) {
    return f->source->text + f->source->length;
}

static void set(struct kc_parser *p, enum kc_token_kind kind, const char *from, const char *end,
                const char *text) {
    p->token =
        (struct kc_token){kind, text, (size_t)(from - p->file->source->text), (size_t)(end - from)};
    p->file->at = (size_t)(end - p->file->source->text);
}

static void place_macros(struct kc_parser *p, const char *at) {
    p->macros.place = mos_place_at(p->file->source, (size_t)(at - p->file->source->text), 1);
}

static bool scan_word(struct kc_parser *p, const char *from, const char *limit) {
    struct mos_buf text = {.arena = p->arena};
    const char *q = from;
    while (q < limit && (is_word(*q) || *q == '$')) {
        if (*q != '$') {
            mos_buf_char(&text, *q++);
            continue;
        }
        if (q + 1 >= limit || q[1] != '(') {
            set(p, KC_SIGN, q, q + 1, "$");
            return kc_wrong(p, "A $ is followed by a name in parentheses: $(NAME)");
        }
        const char *end = memchr(q, '\n', (size_t)(limit - q));
        place_macros(p, q);
        if (!mos_kc_expand_one(&p->macros, q, end ? end : limit, &q, &text))
            return false;
    }
    set(p, KC_WORD, from, q, mos_buf_string(&text));
    return true;
}

static bool scan_string(struct kc_parser *p, const char *from, const char *limit) {
    struct mos_buf text = {.arena = p->arena};
    const char *q = from + 1;
    for (; q < limit && *q != *from && *q != '\n';) {
        if (*q == '\\' && q + 1 < limit && q[1] != '\n') {
            mos_buf_char(&text, q[1]);
            q += 2;
        } else if (*q == '$' && q + 1 < limit && q[1] == '(') {
            const char *end = memchr(q, '\n', (size_t)(limit - q));
            place_macros(p, q);
            if (!mos_kc_expand_one(&p->macros, q, end ? end : limit, &q, &text))
                return false;
        } else {
            mos_buf_char(&text, *q++);
        }
    }
    set(p, KC_STRING, from, q, mos_buf_string(&text));
    if (q == limit || *q == '\n')
        return kc_wrong(p, "The text has no closing %c on this line", *from);
    p->file->at++;
    p->token.length++;
    return true;
}

bool kc_next(struct kc_parser *p) {
    static const char *const signs[] = {"&&", "||", "!=", "<=", ">=", "=",
                                        "<",  ">",  "!",  "(",  ")",  NULL};
    const char *limit = limit_of(p->file), *q = skip(p->file->source->text + p->file->at, limit);
    if (q >= limit || *q == '\n') {
        set(p, KC_END, q, q, "");
        return true;
    }
    if (*q == '"' || *q == '\'')
        return scan_string(p, q, limit);
    if (is_word(*q) || *q == '$')
        return scan_word(p, q, limit);
    for (size_t i = 0; signs[i]; i++)
        if (strncmp(q, signs[i], strlen(signs[i])) == 0) {
            set(p, KC_SIGN, q, q + strlen(signs[i]), signs[i]);
            return true;
        }
    set(p, KC_SIGN, q, q + 1, "");
    struct mos_position at = mos_source_position(p->file->source, p->token.offset);
    mos_vec_push_pointer(&p->tree->said,
                         mos_printf(p->tree->arena,
                                    "%s:%u:%u: a character without a meaning is left out",
                                    p->file->source->shown_path, at.line, at.column));
    return kc_next(p);
}

bool kc_next_line(struct kc_parser *p) {
    const char *text = p->file->source->text, *limit = limit_of(p->file);
    for (const char *q = text + p->file->at; q < limit;) {
        q = skip(q, limit);
        if (q < limit && *q == '\n') {
            q++;
            continue;
        }
        if (q >= limit)
            break;
        p->line_at = p->file->at = (size_t)(q - text);
        if (!kc_next(p))
            return false;
        if (p->token.kind == KC_WORD && !*p->token.text && *q == '$') {
            /* a line that is nothing but macros */
            if (!kc_next(p))
                return false;
            if (p->token.kind != KC_END)
                return kc_wrong(p, "A line that begins with a macro must come to nothing");
            q = text + p->file->at;
            continue;
        }
        return true;
    }
    p->file->at = p->file->source->length;
    return false;
}

bool kc_is_assignment(struct kc_parser *p, char *op, const char **value) {
    const char *text = p->file->source->text, *limit = limit_of(p->file), *q = text + p->file->at;
    while (q < limit && (*q == ' ' || *q == '\t'))
        q++;
    if (q >= limit || p->token.kind != KC_WORD)
        return false;
    if ((*q == ':' || *q == '+') && q + 1 < limit && q[1] == '=') {
        *op = *q;
        q += 2;
    } else if (*q == '=') {
        *op = *q++;
    } else {
        return false;
    }
    while (q < limit && (*q == ' ' || *q == '\t'))
        q++;
    struct mos_buf out = {.arena = p->arena};
    for (; q < limit && *q != '\n'; q++) {
        if (*q == '\\' && q + 1 < limit && q[1] == '\n')
            q++; /* the line goes on */
        else
            mos_buf_char(&out, *q);
    }
    *value = mos_buf_string(&out);
    place_macros(p, text + p->token.offset);
    p->file->at = (size_t)(q - text);
    return true;
}

/* The column where a line's text begins (tabs to the next eighth); *text: that text. */
static unsigned indent(const char *line, const char *end, const char **text) {
    unsigned column = 0;
    const char *p = line;
    for (; p < end && (*p == ' ' || *p == '\t'); p++)
        column = *p == '\t' ? (column | 7) + 1 : column + 1;
    *text = p;
    return column;
}

const char *kc_help(struct kc_parser *p) {
    const char *all = p->file->source->text, *limit = limit_of(p->file);
    const char *line = memchr(all + p->file->at, '\n', (size_t)(limit - all) - p->file->at);
    struct mos_buf out = {.arena = p->arena};
    unsigned first = 0, blank = 0;
    for (line = line ? line + 1 : limit; line < limit;) {
        const char *end = memchr(line, '\n', (size_t)(limit - line)), *text;
        end = end ? end : limit;
        unsigned column = indent(line, end, &text);
        const char *last = end;
        while (last > text && isspace((unsigned char)last[-1]))
            last--;
        if (text < last) {
            if (column < (first ? first : 1))
                break;
            first = first ? first : column;
            for (; blank && out.length; blank--)
                mos_buf_char(&out, '\n');
            for (blank = 0; column > first; column--)
                mos_buf_char(&out, ' ');
            mos_buf_add(&out, text, (size_t)(last - text));
            mos_buf_char(&out, '\n');
        } else {
            blank++;
        }
        line = end < limit ? end + 1 : limit;
    }
    p->file->at = (size_t)(line - all);
    return out.length ? mos_buf_string(&out) : NULL;
}
