#include "tree/source_internal.h"

#include <ctype.h>
#include <string.h>

/* The place in the file that the user wrote. */
static struct mos_place original_place(const struct mos_dts_text *t, size_t offset, size_t length) {
    struct mos_position pos = mos_source_position(t->source, offset);
    const struct mos_dts_marker *best = NULL;
    for (size_t low = 0, high = t->markers.count; low < high;) {
        size_t middle = low + (high - low) / 2;
        const struct mos_dts_marker *m = mos_vec_at(&t->markers, middle);
        if (m->text_line <= pos.line) {
            best = m;
            low = middle + 1;
        } else {
            high = middle;
        }
    }
    if (!best || !best->source)
        return mos_place_at(t->source, offset, length);
    size_t start = mos_source_line_start(best->source, best->line + (pos.line - best->text_line));
    size_t line_length, at = start + pos.column - 1;
    const char *line = mos_source_line(best->source, start, &line_length);
    if (pos.column - 1 + length <= line_length &&
        memcmp(best->source->text + at, t->source->text + offset, length) == 0)
        return mos_place_at(best->source, at, length);
    size_t blanks = 0; /* a macro stood here: mark the whole line */
    while (blanks < line_length && isspace((unsigned char)line[blanks]))
        blanks++;
    return mos_place_at(best->source, start + blanks, line_length - blanks);
}

struct mos_place mos_dts_place(const struct mos_dts *d, size_t offset, size_t length) {
    const struct mos_dts_text *t = d->text;
    if (offset > t->source->length)
        offset = t->source->length;
    if (length > t->source->length - offset)
        length = t->source->length - offset;
    return t->markers.count ? original_place(t, offset, length)
                            : mos_place_at(t->source, offset, length);
}

bool mos_dts_fail(struct mos_dts *d, size_t offset, size_t length, const char *remedy,
                  const char *format, ...) {
    if (d->failed)
        return false;
    d->failed = true;
    va_list arguments;
    va_start(arguments, format);
    const char *message = mos_vprintf(d->ctx->arena, format, arguments);
    va_end(arguments);
    struct mos_finding *f = mos_find(&d->ctx->findings, MOS_RULE_TREE_SYNTAX, "%s", message);
    mos_finding_at(&d->ctx->findings, f, mos_dts_place(d, offset, length));
    mos_finding_try(&d->ctx->findings, f, "%s",
                    remedy ? remedy : "Correct the source at this place.");
    return false;
}

static bool at_line_start(const struct mos_dts_text *t) {
    return t->at == 0 || t->source->text[t->at - 1] == '\n';
}

/* One comment or one line marker; false when there is neither. */
static bool skip_one(struct mos_dts *d) {
    struct mos_dts_text *t = d->text;
    const char *p = t->source->text + t->at;
    size_t left = t->source->length - t->at;
    if (left >= 2 && p[0] == '/' && p[1] == '/') {
        const char *end = memchr(p, '\n', left);
        t->at = end ? (size_t)(end - t->source->text) : t->source->length;
        return true;
    }
    if (left >= 2 && p[0] == '/' && p[1] == '*') {
        for (size_t i = 2; i + 1 < left; i++)
            if (p[i] == '*' && p[i + 1] == '/') {
                t->at += i + 2;
                return true;
            }
        mos_dts_fail(d, t->at, 2, "Close it with */.", "This comment never ends.");
        t->at = t->source->length;
        return true;
    }
    if (t->markers.count && *p == '#' && at_line_start(t) && left > 2 && p[1] == ' ' &&
        isdigit((unsigned char)p[2])) {
        const char *end = memchr(p, '\n', left);
        t->at = end ? (size_t)(end - t->source->text) : t->source->length;
        return true;
    }
    return false;
}

void mos_dts_skip(struct mos_dts *d) {
    for (;;) {
        struct mos_dts_text *t = d->text;
        while (t->at < t->source->length && isspace((unsigned char)t->source->text[t->at]))
            t->at++;
        if (t->at < t->source->length) {
            if (!skip_one(d))
                return;
        } else if (t->outer) {
            d->text = t->outer;
        } else {
            return;
        }
    }
}

int mos_dts_peek(struct mos_dts *d) {
    if (d->failed)
        return -1;
    mos_dts_skip(d);
    const struct mos_dts_text *t = d->text;
    return !d->failed && t->at < t->source->length ? (unsigned char)t->source->text[t->at] : -1;
}

bool mos_dts_accept(struct mos_dts *d, const char *sign) {
    size_t n = strlen(sign);
    mos_dts_skip(d);
    struct mos_dts_text *t = d->text;
    if (d->failed || t->source->length - t->at < n || memcmp(t->source->text + t->at, sign, n) != 0)
        return false;
    t->at += n;
    return true;
}

bool mos_dts_expect(struct mos_dts *d, const char *sign, const char *after) {
    size_t before = d->text->at; /* just behind what came last: where a ';' was forgotten */
    const struct mos_dts_text *same = d->text;
    if (mos_dts_accept(d, sign))
        return true;
    if (d->text == same && strcmp(sign, ";") == 0 && before)
        return mos_dts_fail(d, before - 1, 1, mos_printf(d->ctx->arena, "Add a %s here.", sign),
                            "A %s is missing after %s.", sign, after);
    return mos_dts_fail(d, d->text->at, 1, mos_printf(d->ctx->arena, "Write %s here.", sign),
                        "Expected %s after %s.", sign, after);
}

static bool name_character(int c) {
    return isalnum(c) || (c && strchr(",._+*#?@-", c));
}

char *mos_dts_name(struct mos_dts *d) {
    mos_dts_skip(d);
    struct mos_dts_text *t = d->text;
    const char *p = t->source->text + t->at;
    size_t left = t->source->length - t->at, escape = left && *p == '\\', n = escape;
    while (n < left && name_character((unsigned char)p[n]))
        n++;
    if (n == escape)
        return NULL;
    t->at += n;
    return mos_strndup(d->ctx->arena, p + escape, n - escape);
}

static size_t label_length(const char *p, size_t left) {
    size_t n = 0;
    while (n < left && (isalnum((unsigned char)p[n]) || p[n] == '_'))
        n++;
    return n && !isdigit((unsigned char)*p) ? n : 0;
}

char *mos_dts_label(struct mos_dts *d) {
    mos_dts_skip(d);
    struct mos_dts_text *t = d->text;
    const char *p = t->source->text + t->at;
    size_t n = label_length(p, t->source->length - t->at);
    if (!n || t->at + n >= t->source->length || p[n] != ':')
        return NULL;
    t->at += n + 1;
    return mos_strndup(d->ctx->arena, p, n);
}

static int hex_digit(int c) {
    return isdigit(c) ? c - '0' : isxdigit(c) ? tolower(c) - 'a' + 10 : -1;
}

/* One character of a string or character literal, behind a backslash if there is one. */
static char unescape(const char *text, size_t length, size_t *at) {
    char c = text[(*at)++];
    if (c != '\\' || *at >= length)
        return c;
    c = text[(*at)++];
    static const char from[] = "abfnrtv", to[] = "\a\b\f\n\r\t\v";
    const char *simple = c ? strchr(from, c) : NULL;
    if (simple)
        return to[simple - from];
    if (c == 'x') {
        int value = 0, digits = 0;
        for (; digits < 2 && *at < length && hex_digit((unsigned char)text[*at]) >= 0; digits++)
            value = value * 16 + hex_digit((unsigned char)text[(*at)++]);
        return (char)value;
    }
    if (c >= '0' && c <= '7') {
        int value = c - '0';
        for (int i = 0; i < 2 && *at < length && text[*at] >= '0' && text[*at] <= '7'; i++)
            value = value * 8 + text[(*at)++] - '0';
        return (char)value;
    }
    return c;
}

bool mos_dts_string(struct mos_dts *d, struct mos_buf *out) {
    if (!mos_dts_accept(d, "\""))
        return false;
    struct mos_dts_text *t = d->text;
    const struct mos_source *s = t->source;
    size_t start = t->at - 1;
    while (t->at < s->length && s->text[t->at] != '"') {
        char c = unescape(s->text, s->length, &t->at);
        mos_buf_char(out, c);
    }
    if (t->at >= s->length)
        return mos_dts_fail(d, start, 1, "Close it with \".", "This string never ends.");
    t->at++;
    return true;
}

static bool character_literal(struct mos_dts *d, uint64_t *value) {
    struct mos_dts_text *t = d->text;
    const struct mos_source *s = t->source;
    size_t start = t->at++;
    if (t->at < s->length)
        *value = (unsigned char)unescape(s->text, s->length, &t->at);
    if (t->at >= s->length || s->text[t->at] != '\'')
        return mos_dts_fail(d, start, 1, "Write one character between ' and '.",
                            "This is no character literal.");
    t->at++;
    return true;
}

bool mos_dts_number(struct mos_dts *d, uint64_t *value) {
    int c = mos_dts_peek(d);
    if (c == '\'')
        return character_literal(d, value);
    struct mos_dts_text *t = d->text;
    const struct mos_source *s = t->source;
    size_t start = t->at, at = start;
    if (c < 0 || !isdigit(c))
        return false;
    unsigned base = 10;
    if (c == '0' && at + 1 < s->length && (s->text[at + 1] | 32) == 'x') {
        base = 16;
        at += 2;
    } else if (c == '0') {
        base = 8;
    }
    uint64_t v = 0;
    size_t digits = at;
    for (; at < s->length; at++) {
        int digit = hex_digit((unsigned char)s->text[at]);
        if (digit < 0 || (unsigned)digit >= base)
            break;
        if (v > (UINT64_MAX - (uint64_t)digit) / base)
            return mos_dts_fail(d, start, at - start + 1, NULL,
                                "This number needs more than 64 bits.");
        v = v * base + (uint64_t)digit;
    }
    bool none = at == digits;
    for (int i = 0; i < 3 && at < s->length && strchr("uUlL", s->text[at]) && s->text[at]; i++)
        at++;
    if (none || (at < s->length && (isalnum((unsigned char)s->text[at]) || s->text[at] == '_')))
        return mos_dts_fail(d, start, at - start + 1, NULL, "This is no number.");
    t->at = at;
    *value = v;
    return true;
}

const char *mos_dts_reference(struct mos_dts *d) {
    struct mos_dts_text *t = d->text;
    const char *p = t->source->text + t->at;
    size_t left = t->source->length - t->at, n;
    if (left && *p == '{') {
        const char *end = memchr(p, '}', left);
        if (!end || p[1] != '/') {
            mos_dts_fail(d, t->at, 1, "Write &{/soc/node@address}.", "This is no path.");
            return NULL;
        }
        t->at += (size_t)(end - p) + 1;
        return mos_strndup(d->ctx->arena, p + 1, (size_t)(end - p) - 1);
    }
    n = label_length(p, left);
    if (!n) {
        mos_dts_fail(d, t->at, 1, "Write a label or {/path} behind the &.", "This is no label.");
        return NULL;
    }
    t->at += n;
    return mos_strndup(d->ctx->arena, p, n);
}
