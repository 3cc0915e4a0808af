/* The tokens of tree sources, made of those that the preprocessor lets through. */
#include "tree/source_internal.h"

#include <ctype.h>
#include <string.h>

const struct mos_cpp_seen *mos_dts_part(struct mos_dts *d) {
    mos_dts_here(d);
    if (d->token.t.kind == MOS_CPP_WORD) {
        d->cpp->buffer->at -= d->token.t.parameter;
        mos_cpp_next(d->cpp, &d->token, true);
    }
    return &d->token;
}

void mos_dts_take(struct mos_dts *d) {
    mos_dts_here(d);
    d->last = d->token;
    d->have = false;
}

bool mos_dts_fail_at(struct mos_dts *d, const struct mos_cpp_seen *at, const char *remedy,
                     const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *message = mos_vprintf(d->ctx->arena, format, arguments);
    va_end(arguments);
    return mos_cpp_fail(d->cpp, at, remedy, "%s", message);
}

bool mos_dts_fail(struct mos_dts *d, const char *remedy, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    const char *message = mos_vprintf(d->ctx->arena, format, arguments);
    va_end(arguments);
    return mos_cpp_fail(d->cpp, mos_dts_here(d), remedy, "%s", message);
}

bool mos_dts_take_sign(struct mos_dts *d, char sign) {
    const struct mos_cpp_token *t = &mos_dts_here(d)->t;
    if (t->kind == MOS_CPP_WORD)
        t = &mos_dts_part(d)->t;
    if (t->kind != MOS_CPP_SIGN || *t->text != sign)
        return false;
    bool more = t->length > 1;
    mos_dts_take(d);
    if (more) { /* the rest of >> and the like stays at hand */
        d->token.t.text++;
        d->token.t.length--;
        d->token.t.flags &= (uint8_t)~MOS_CPP_SPACE;
        if (d->token.own_length > 1 && !d->token.use) {
            d->token.own++;
            d->token.own_length--;
        }
        d->have = true;
    }
    return true;
}

bool mos_dts_expect(struct mos_dts *d, char sign, const char *after) {
    if (mos_dts_accept(d, sign))
        return true;
    if (sign == ';' && d->last.own_length) { /* just behind what came last */
        struct mos_cpp_seen at = d->last;
        at.own += at.own_length - 1;
        at.own_length = 1;
        return mos_dts_fail_at(d, &at, "Add a ; here.", "A ; is missing after %s.", after);
    }
    return mos_dts_fail(d, mos_printf(d->ctx->arena, "Write %c here.", sign),
                        "Expected %c after %s.", sign, after);
}

bool mos_dts_take_keyword(struct mos_dts *d, const char *keyword) {
    const struct mos_cpp_token *t = &mos_dts_here(d)->t;
    if (t->kind != MOS_CPP_SIGN || *t->text != '/')
        return false;
    size_t n = strlen(keyword);
    if (strncmp(t->text, keyword, n) != 0)
        return false;
    struct mos_cpp_seen first = d->token;
    while (mos_dts_take(d), d->last.t.text + d->last.t.length < first.t.text + n)
        if (mos_dts_here(d)->t.kind == MOS_CPP_END)
            return false;
    return true;
}

/* ---- names ---- */

static bool name_character(int c) {
    return isalnum(c) || (c && strchr(",._+*#?@-", c));
}

/* Is a token part of a name? */
static bool is_piece(const struct mos_cpp_token *t) {
    if (t->kind == MOS_CPP_NAME || t->kind == MOS_CPP_WORD)
        return true;
    if (t->kind != MOS_CPP_NUMBER && t->kind != MOS_CPP_SIGN)
        return false;
    for (uint32_t i = 0; i < t->length; i++)
        if (!name_character((unsigned char)t->text[i]))
            return false;
    return t->length;
}

/* Does a token touch the one that was taken before, so that both are one name? */
static bool touches(const struct mos_dts *d, const struct mos_cpp_seen *s) {
    const struct mos_cpp_token *last = &d->last.t;
    if (s->t.flags & MOS_CPP_SPACE || !is_piece(&s->t))
        return false;
    if (last->text + last->length == s->t.text)
        return true;
    /* what a macro gives does not run into a name beside it */
    int a = (unsigned char)last->text[last->length - 1], b = (unsigned char)*s->t.text;
    return !((isalnum(a) || a == '_') && (isalnum(b) || b == '_'));
}

const char *mos_dts_name(struct mos_dts *d, struct mos_cpp_seen *at) {
    const struct mos_cpp_token *t = &mos_dts_here(d)->t;
    bool escape = t->kind == MOS_CPP_SIGN && t->length == 1 && *t->text == '\\';
    if (escape) {
        mos_dts_take(d);
        t = &mos_dts_here(d)->t;
    }
    *at = d->token;
    if (!is_piece(t))
        return NULL;
    bool alone = !d->token.use && !(t->flags & MOS_CPP_MADE) && t->text[t->length] &&
                 !name_character((unsigned char)t->text[t->length]);
    if (t->kind == MOS_CPP_WORD || (t->kind == MOS_CPP_NAME && alone)) {
        const char *name = t->name->text;
        mos_dts_take(d);
        return name;
    }
    struct mos_buf b = {.arena = d->cpp->arena};
    do {
        mos_dts_take(d);
        mos_buf_add(&b, d->last.t.text, d->last.t.length);
        if (d->last.file == at->file && d->last.own >= at->own)
            at->own_length = (uint32_t)(d->last.own + d->last.own_length - at->own);
    } while (touches(d, mos_dts_here(d)));
    return mos_cpp_intern(d->cpp->store, mos_buf_string(&b), b.length)->text;
}

const char *mos_dts_label(struct mos_dts *d) {
    const struct mos_cpp_seen *s = mos_dts_here(d);
    if (s->t.kind != MOS_CPP_NAME || !(s->t.flags & MOS_CPP_LABEL || s->use))
        return NULL;
    struct mos_cpp_seen name = *s;
    mos_dts_take(d);
    s = mos_dts_here(d);
    if (mos_cpp_is(&s->t, ":") && !(s->t.flags & MOS_CPP_SPACE)) {
        mos_dts_take(d);
        d->last = name;
        return name.t.name->text;
    }
    struct mos_cpp_seen *kept = mos_alloc(d->cpp->arena, sizeof *kept);
    if (s->t.kind == MOS_CPP_WORD)
        s = mos_dts_part(d);
    *kept = *s;
    if (s->t.kind != MOS_CPP_END)
        mos_cpp_push_back(d->cpp, kept, 1);
    d->token = name;
    return NULL;
}

const char *mos_dts_reference(struct mos_dts *d, struct mos_cpp_seen *at) {
    const struct mos_cpp_seen *s = mos_dts_part(d);
    if (!mos_dts_accept(d, '{')) {
        if (s->t.kind != MOS_CPP_NAME) {
            mos_dts_fail(d, "Write a label or {/path} behind the &.", "This is no label.");
            return NULL;
        }
        mos_dts_take(d);
    } else {
        struct mos_buf b = {.arena = d->cpp->arena};
        for (; !mos_dts_accept(d, '}'); mos_dts_take(d)) {
            s = mos_dts_here(d);
            if (s->t.kind == MOS_CPP_END || s->t.flags & MOS_CPP_SPACE ||
                (!b.length && *s->t.text != '/')) {
                mos_dts_fail(d, "Write &{/soc/node@address}.", "This is no path.");
                return NULL;
            }
            mos_buf_add(&b, s->t.text, s->t.length);
        }
        if (d->last.file == at->file && d->last.own >= at->own)
            at->own_length = (uint32_t)(d->last.own + d->last.own_length - at->own);
        return mos_cpp_intern(d->cpp->store, mos_buf_string(&b), b.length)->text;
    }
    if (d->last.file == at->file && d->last.own >= at->own)
        at->own_length = (uint32_t)(d->last.own + d->last.own_length - at->own);
    return d->last.t.name->text;
}

/* ---- values ---- */

bool mos_dts_string(struct mos_dts *d, struct mos_buf *out) {
    const struct mos_cpp_seen *s = mos_dts_here(d);
    if (mos_cpp_is(&s->t, "\""))
        return mos_dts_fail(d, "Close it with \" in the same line.", "This string never ends.");
    if (s->t.kind != MOS_CPP_STRING || *s->t.text != '"')
        return false;
    const char *text = s->t.text + 1;
    size_t length = s->t.length - 2, at = 0;
    if (!memchr(text, '\\', length)) {
        mos_buf_add(out, text, length);
    } else {
        while (at < length)
            mos_buf_char(out, mos_expression_character(text, length, &at));
    }
    mos_dts_take(d);
    return true;
}

static const struct mos_cpp_token *peek(void *self) {
    return &mos_dts_part(self)->t;
}

static void next(void *self) {
    mos_dts_take(self);
}

static bool complain(void *self, const char *message) {
    return mos_dts_fail(self, NULL, "%s", message);
}

/* What is left of a number that C takes more of: 0x1e+5. */
static void put_rest_back(struct mos_dts *d, const struct mos_cpp_seen *of, size_t used) {
    const struct mos_cpp_token *rest;
    size_t n =
        mos_cpp_tokens(d->cpp->store, d->cpp->arena, of->t.text + used, of->t.length - used, &rest);
    struct mos_cpp_seen *row = mos_alloc_array(d->cpp->arena, n, sizeof *row);
    for (size_t i = 0; i < n; i++) {
        row[i] = *of;
        row[i].t = rest[i];
    }
    mos_cpp_push_back(d->cpp, row, n);
}

static bool operand(void *self, uint64_t *value, bool *without_sign) {
    struct mos_dts *d = self;
    struct mos_cpp_seen s = *mos_dts_part(d);
    size_t n = s.t.length, at = 1;
    if (s.t.kind == MOS_CPP_CHARACTER) {
        *value = (unsigned char)mos_expression_character(s.t.text, s.t.length, &at);
        if (s.t.length < 3 || at + 1 != s.t.length)
            return mos_dts_fail(d, "Write one character between ' and '.",
                                "This is no character literal.");
    } else if (s.t.kind != MOS_CPP_NUMBER) {
        return mos_dts_fail(d, "Write a number, a 'character', a &reference or an (expression).",
                            s.t.kind == MOS_CPP_NAME ? "%.*s is no number, and no macro."
                                                     : "Expected a number in place of \"%.*s\".",
                            (int)s.t.length, s.t.text);
    } else if (!mos_expression_number(s.t.text, &n, value, without_sign)) {
        bool digits = strspn(s.t.text, "0123456789abcdefABCDEFxX") >= s.t.length;
        return mos_dts_fail(d, NULL,
                            digits && s.t.length > 16 ? "This number needs more than 64 bits."
                                                      : "This is no number.");
    } else if (n < s.t.length && s.t.text[n] != '+' && s.t.text[n] != '-') {
        return mos_dts_fail(d, NULL, "This is no number.");
    }
    mos_dts_take(d);
    if (s.t.kind == MOS_CPP_NUMBER && n < s.t.length)
        put_rest_back(d, &s, n);
    return true;
}

bool mos_dts_cell_value(struct mos_dts *d, uint64_t *value) {
    *value = 0;
    bool unsigned_one = false;
    if (!mos_cpp_is(&mos_dts_part(d)->t, "("))
        return operand(d, value, &unsigned_one);
    struct mos_expression e = {d, peek, next, operand, complain, false, 0};
    mos_dts_take(d);
    return mos_expression_value(&e, value) && mos_dts_expect(d, ')', "an expression");
}
