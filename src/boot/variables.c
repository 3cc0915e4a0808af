#include "boot/variables.h"

#include <assert.h>
#include <string.h>

void mos_variables_set(struct mos_arena *arena, struct mos_map *map, const char *name,
                       const char *value, struct mos_place place) {
    assert(name && *name && value);
    struct mos_loader_variable *v = mos_alloc(arena, sizeof *v);
    *v = (struct mos_loader_variable){name, value, place, mos_map_get(map, name)};
    mos_map_set(map, name, v);
}

/* One line, with those it goes on in; advances *at to the next. */
static void next_line(const struct mos_source *s, size_t *at, struct mos_buf *out) {
    for (bool more = true; more && *at < s->length;) {
        const char *p = s->text + *at;
        const char *end = memchr(p, '\n', s->length - *at);
        size_t n = end ? (size_t)(end - p) : s->length - *at;
        *at += n + (end != NULL);
        more = n && p[n - 1] == '\\';
        mos_buf_add(out, p, n - more);
    }
}

void mos_variables_read_text(struct mos_ctx *ctx, const struct mos_source *source,
                             struct mos_map *into) {
    for (size_t at = 0; at < source->length;) {
        size_t start = at;
        struct mos_buf line = {.arena = ctx->arena};
        next_line(source, &at, &line);
        const char *text = mos_buf_string(&line);
        if (!*text || *text == '#')
            continue;
        const char *equals = strchr(text, '=');
        size_t shown = strcspn(source->text + start, "\n");
        if (!equals || equals == text) {
            struct mos_finding *f =
                mos_find(&ctx->findings, MOS_RULE_BOARD_SCHEMA, "This line of %s is no name=value.",
                         source->shown_path);
            mos_finding_at(&ctx->findings, f, mos_place_at(source, start, shown));
            mos_finding_try(&ctx->findings, f, "Write name=value, or # in front of a comment.");
            continue;
        }
        size_t n = (size_t)(equals - text);
        const struct mos_loader_variable *before =
            mos_map_get(into, mos_strndup(ctx->arena, text, n));
        if (before && before->place.source == source && strcmp(before->value, equals + 1) != 0) {
            struct mos_finding *f =
                mos_find(&ctx->findings, MOS_RULE_LOADER_ENV_DOUBLED,
                         "Variable %s is set twice, differently.", before->name);
            mos_finding_at(&ctx->findings, f, mos_place_at(source, start, shown));
            mos_finding_at(&ctx->findings, f, before->place);
            mos_finding_why(&ctx->findings, f,
                            "The later one counts, and the other is read in vain.");
            mos_finding_try(&ctx->findings, f, "Remove one of the two lines.");
        }
        mos_variables_set(ctx->arena, into, mos_strndup(ctx->arena, text, n),
                          mos_strdup(ctx->arena, equals + 1), mos_place_at(source, start, shown));
    }
}
