/* Secrets in folders of the workspace that are copied into a volume. */
#include "rules/rules.h"

#include "base/secret.h"
#include "plan/bytes.h"

#include <ctype.h>
#include <string.h>
#include <strings.h>

enum { MOST_TEXT = 64 << 10, MOST_TOLD = 3 };

struct scan {
    const struct mos_plan *plan;
    const struct mos_region_plan *region;
    const struct mos_fill *fill;
    struct mos_arena *arena;
    const char *path; /* of the file that goes by; NULL: it is not looked at */
    struct mos_buf text;
    size_t told;
};

static void tell(struct scan *s, unsigned line, const char *what) {
    struct mos_findings *list = &s->plan->ctx->findings;
    if (++s->told > MOST_TOLD)
        return;
    struct mos_finding *f = mos_find(list, MOS_RULE_ACCESS_FOLDER_SECRET,
                                     "%s of /%s stands in plain text.", what, s->path);
    mos_finding_at(list, f, s->fill->folder->place);
    mos_finding_at(
        list, f,
        mos_place_thing(mos_printf(s->arena, "/%s:%u in %s", s->path, line, s->region->name)));
    mos_finding_why(list, f,
                    "The workspace is shared, its history keeps it, and so does every board.");
    mos_finding_try(list, f,
                    "Set it on the board itself, or make the file where the image is made.");
}

/* Nobody calls these a secret. */
static bool is_harmless(const char *value, size_t length) {
    static const char *const words[] = {"yes", "no", "true", "false", "none", "ask", "prompt"};
    if (length < 4 || strchr("$/*<%{", *value))
        return true;
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (strlen(words[i]) == length && strncasecmp(value, words[i], length) == 0)
            return true;
    return false;
}

/* NAME=VALUE or "NAME": "VALUE" with a name that sounds like it. */
static void look_at_line(struct scan *s, unsigned number, const char *line, size_t length) {
    const char *end = line + length, *p = line;
    while (p < end && (isspace((unsigned char)*p) || *p == '"'))
        p++;
    const char *name = p;
    while (p < end && (isalnum((unsigned char)*p) || strchr("_.-", *p)))
        p++;
    const char *name_end = p;
    bool quoted = p < end && *p == '"';
    p += quoted;
    while (p < end && isblank((unsigned char)*p))
        p++;
    if (p >= end || name == name_end || (*p != '=' && !(quoted && *p == ':')))
        return;
    for (p++; p < end && (isblank((unsigned char)*p) || *p == '"' || *p == '\'');)
        p++;
    const char *value = p;
    while (p < end && !isspace((unsigned char)*p) && *p != '"' && *p != '\'' && *p != ',')
        p++;
    const char *text = mos_strndup(s->arena, value, (size_t)(p - value));
    const char *what = mos_strndup(s->arena, name, (size_t)(name_end - name));
    if (!mos_sounds_secret(what) || is_harmless(value, (size_t)(p - value)) ||
        mos_is_password_hash(text))
        return;
    tell(s, number, mos_printf(s->arena, "The value %s", what));
}

static void look_at(struct scan *s) {
    const char *text = mos_buf_string(&s->text);
    unsigned number = 1;
    if (memchr(text, 0, s->text.length))
        return; /* no text */
    for (const char *line = text; *line; number++) {
        size_t n = strcspn(line, "\n");
        if (n > 20 && strncmp(line, "-----BEGIN ", 11) == 0) {
            const char *rest = mos_strndup(s->arena, line, n);
            if (strstr(rest, "PRIVATE KEY"))
                tell(s, number, "The private key");
        } else if (*line != '#' && *line != ';') {
            look_at_line(s, number, line, n);
        }
        line += n + (line[n] == '\n');
    }
}

static bool take_entry(void *self, const struct mos_entry *e) {
    struct scan *s = self;
    const char *slash = strrchr(e->path, '/'), *base = slash ? slash + 1 : e->path;
    bool host_key = strncmp(base, "ssh_host_", 9) == 0; /* access.host-key */
    s->path = e->type == MOS_ENTRY_FILE && e->size <= MOST_TEXT && e->size && !host_key
                  ? mos_strdup(s->arena, e->path)
                  : NULL;
    s->text.length = 0;
    return true;
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct scan *s = self;
    if (s->path && bytes && offset >= s->text.length) {
        mos_buf_zeros(&s->text, (size_t)offset - s->text.length);
        mos_buf_add(&s->text, bytes, length);
    }
    return true;
}

static bool take_end(void *self, uint64_t sum) {
    struct scan *s = self;
    (void)sum;
    if (s->path)
        look_at(s);
    return true;
}

void mos_rule_access_folders(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        for (size_t k = 0; k < m->regions.count; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            const struct mos_volume *v = r->def->volume;
            for (size_t n = 0; v && r->counted && n < v->fills.count; n++) {
                struct scan s = {.plan = plan,
                                 .region = r,
                                 .fill = v->fills.items[n],
                                 .arena = plan->ctx->arena,
                                 .text = {.arena = plan->ctx->arena}};
                struct mos_sink sink = {&s, take_entry, take_data, take_end};
                struct mos_error ignored = {0}, *saved = plan->ctx->error;
                if (!mos_has(s.fill->folder))
                    continue;
                plan->ctx->error = &ignored; /* the volume was counted: it has been told */
                mos_plan_stream_fill(plan->self, r, s.fill, false, &sink);
                plan->ctx->error = saved;
            }
        }
    }
}
