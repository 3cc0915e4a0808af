#include "kconfig/fragment.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

struct line {
    const struct mos_source *source;
    size_t offset; /* of the text, without leading blanks */
    const char *text;
    size_t length; /* without trailing blanks */
};

static struct mos_finding *malformed(struct mos_ctx *ctx, const struct line *l, const char *what) {
    struct mos_finding *f = mos_find(&ctx->findings, MOS_RULE_KERNEL_MALFORMED, "%s", what);
    mos_finding_at(&ctx->findings, f, mos_place_at(l->source, l->offset, l->length));
    return f;
}

static size_t symbol_length(const char *text, size_t length) {
    assert(text || !length);
    size_t n = 0;
    while (n < length && (isalnum((unsigned char)text[n]) || text[n] == '_'))
        n++;
    return n;
}

static bool is_symbol(const char *text, size_t length) {
    return length > 7 && memcmp(text, "CONFIG_", 7) == 0 && symbol_length(text, length) == length;
}

static bool is_number(const char *v, size_t n) {
    size_t i = n && v[0] == '-';
    bool hex = n > i + 2 && v[i] == '0' && (v[i + 1] == 'x' || v[i + 1] == 'X');
    if (hex)
        i += 2;
    if (i == n)
        return false;
    for (; i < n; i++)
        if (hex ? !isxdigit((unsigned char)v[i]) : !isdigit((unsigned char)v[i]))
            return false;
    return true;
}

static bool is_text(const char *v, size_t n) {
    if (n < 2 || v[0] != '"' || v[n - 1] != '"' || memchr(v, 0, n))
        return false;
    for (size_t i = 1; i + 1 < n; i++) {
        if (v[i] == '\\' && i + 2 < n)
            i++;
        else if (v[i] == '"' || v[i] == '\\')
            return false;
    }
    return true;
}

static bool good_value(struct mos_ctx *ctx, const struct line *l, const char *v, size_t n) {
    if ((n == 1 && memchr("ymn", v[0], 3)) || is_number(v, n) || is_text(v, n))
        return true;
    struct mos_finding *f = malformed(ctx, l,
                                      mos_printf(ctx->arena, "%.*s is no value for a symbol.",
                                                 n ? (int)n : 7, n ? v : "Nothing"));
    mos_finding_why(&ctx->findings, f,
                    "A value is y, m, n, a number, or a text in quotation marks.");
    if (n && v[0] != '"')
        mos_finding_try(&ctx->findings, f, "Write \"%.*s\" in quotation marks.", (int)n, v);
    else
        mos_finding_try(&ctx->findings, f, "Write the value behind the = in full.");
    return false;
}

static void add(struct mos_ctx *ctx, struct mos_config_part *part, const struct line *l,
                const char *symbol, size_t symbol_size, const char *value, size_t value_size) {
    struct mos_setting *s = mos_alloc(ctx->arena, sizeof *s);
    s->symbol = mos_strndup(ctx->arena, symbol, symbol_size);
    s->value = mos_strndup(ctx->arena, value, value_size);
    s->place = mos_place_at(l->source, l->offset, l->length);
    s->part = part;
    mos_vec_push_pointer(&part->settings, s);
}

/* "# CONFIG_X is not set"; any other line that begins with # is a comment. */
static void read_comment(struct mos_ctx *ctx, struct mos_config_part *part, const struct line *l) {
    static const char tail[] = " is not set";
    size_t start = 1 + strspn(l->text + 1, " \t");
    if (start >= l->length)
        return;
    const char *symbol = l->text + start;
    size_t n = symbol_length(symbol, l->length - start);
    if (is_symbol(symbol, n) && l->length - start - n == sizeof tail - 1 &&
        memcmp(symbol + n, tail, sizeof tail - 1) == 0)
        add(ctx, part, l, symbol, n, "n", 1);
}

static void read_line(struct mos_ctx *ctx, struct mos_config_part *part, const struct line *l) {
    if (l->length == 0)
        return;
    if (l->text[0] == '#') {
        read_comment(ctx, part, l);
        return;
    }
    const char *equals = memchr(l->text, '=', l->length);
    size_t name = equals ? (size_t)(equals - l->text) : l->length;
    if (equals && is_symbol(l->text, name)) {
        size_t value = l->length - name - 1;
        if (good_value(ctx, l, equals + 1, value))
            add(ctx, part, l, l->text, name, equals + 1, value);
        return;
    }
    struct mos_finding *f = malformed(ctx, l, "This line is neither a setting nor a comment.");
    mos_finding_why(&ctx->findings, f, "The kernel's configuration reads it as nothing, silently.");
    if (is_symbol(l->text, name))
        mos_finding_try(&ctx->findings, f, "Write %.*s=y, or # %.*s is not set.", (int)name,
                        l->text, (int)name, l->text);
    else if (equals && symbol_length(l->text, name) == name && name)
        mos_finding_try(&ctx->findings, f, "Write CONFIG_%.*s.", (int)l->length, l->text);
    else
        mos_finding_try(
            &ctx->findings, f,
            "Write CONFIG_NAME=value without blanks around the =, or # in front of a comment.");
}

struct mos_config_part *mos_config_read(struct mos_ctx *ctx, const char *name,
                                        const struct mos_source *source) {
    struct mos_config_part *part = mos_alloc(ctx->arena, sizeof *part);
    part->name = name;
    part->source = source;
    part->settings = mos_vec_make(ctx->arena, sizeof(struct mos_setting *));
    for (size_t i = 0; i < source->line_count; i++) {
        struct line l = {.source = source, .offset = source->lines[i]};
        l.text = mos_source_line(source, l.offset, &l.length);
        while (l.length && (*l.text == ' ' || *l.text == '\t')) {
            l.text++;
            l.offset++;
            l.length--;
        }
        while (l.length && (l.text[l.length - 1] == ' ' || l.text[l.length - 1] == '\t'))
            l.length--;
        read_line(ctx, part, &l);
    }
    return part;
}

static bool may_override(const struct mos_config_part *later,
                         const struct mos_config_part *earlier) {
    if (earlier->start || earlier == later)
        return true;
    for (const struct mos_config_part *p = later->contradicts; p; p = p->contradicts)
        if (p == earlier)
            return true;
    return false;
}

static void conflict(struct mos_ctx *ctx, const struct mos_setting *earlier,
                     const struct mos_setting *later) {
    struct mos_finding *f =
        mos_find(&ctx->findings, MOS_RULE_KERNEL_CONFLICT,
                 "Fragments %s and %s disagree about %s: %s and %s.", earlier->part->name,
                 later->part->name, later->symbol, earlier->value, later->value);
    mos_finding_at(&ctx->findings, f, earlier->place);
    mos_finding_at(&ctx->findings, f, later->place);
    mos_finding_why(
        &ctx->findings, f,
        "Both are fragments of the same rank; without a word the last one, %s, would win.",
        later->part->name);
    mos_finding_try(&ctx->findings, f,
                    "Remove one, or write %s: {file: …, contradicts: %s} if it is meant.",
                    later->part->name, earlier->part->name);
}

struct mos_map mos_config_merge(struct mos_ctx *ctx, struct mos_config_part *const *parts,
                                size_t count) {
    struct mos_map merged = mos_map_make(ctx->arena);
    for (size_t i = 0; i < count; i++)
        for (size_t k = 0; k < parts[i]->settings.count; k++) {
            struct mos_setting *s = mos_vec_pointer(&parts[i]->settings, k);
            struct mos_setting *before = mos_map_get(&merged, s->symbol);
            if (before && strcmp(before->value, s->value) != 0 &&
                !may_override(s->part, before->part))
                conflict(ctx, before, s);
            s->replaced = before;
            mos_map_set(&merged, s->symbol, s);
        }
    return merged;
}

const char *mos_config_text(struct mos_ctx *ctx, const struct mos_map *merged, size_t *length) {
    struct mos_buf b = {.arena = ctx->arena};
    for (size_t i = 0; i < merged->count; i++) {
        const struct mos_setting *s = merged->items[i].value;
        if (strcmp(s->value, "n") == 0)
            mos_buf_printf(&b, "# %s is not set\n", s->symbol);
        else
            mos_buf_printf(&b, "%s=%s\n", s->symbol, s->value);
    }
    *length = b.length;
    return mos_buf_string(&b);
}
