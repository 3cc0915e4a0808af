/* Texts of the definition that a firmware reads from a volume: what stands in < > is a fact of the
 * board, and a line with <overlays> is written once for each of them. */
#include "plan/steps.h"

#include "base/text.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

struct writer {
    struct mos_plan *plan;
    struct mos_settings_plan *out;
    const struct mos_value *text;
    const char *searched; /* in the source: behind the line that was found last */
};

/* ---- what a name stands for ---- */

static const struct mos_entry_plan *entry_called(const struct mos_plan *plan, const char *name,
                                                 size_t length) {
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        if (!length || (strncmp(e->def->r.name, name, length) == 0 && !e->def->r.name[length]))
            return e;
    }
    return NULL;
}

/* "kernel", "tree", "ramdisk", "arguments" of an entry; NULL: none of these, "": it has none. */
static const char *of_entry(const struct mos_entry_plan *e, const char *what) {
    const struct {
        const char *name, *text;
    } rows[] = {{"kernel", e->step.kernel_file},
                {"tree", e->step.tree_file},
                {"ramdisk", e->step.ramdisk_file},
                {"arguments", e->step.arguments}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (strcmp(what, rows[i].name) == 0)
            return rows[i].text ? rows[i].text : "";
    return NULL;
}

static const char *overlay_file(const struct mos_plan *plan, size_t index) {
    assert(index < plan->boot_overlays.count);
    const struct mos_overlay_plan *o = mos_vec_pointer(&plan->boot_overlays, index);
    return mos_path_join(plan->ctx->arena, plan->boot_prefix,
                         mos_printf(plan->ctx->arena, "%s.dtbo", o->def->r.name));
}

static const char *console_part(const struct mos_plan *plan, const char *part) {
    const struct mos_hardware *h = plan->board->hardware;
    const struct mos_console *c = h ? h->console : NULL;
    if (!c || mos_board_is_mute(plan->board))
        return NULL;
    return strcmp(part, "baud") == 0 ? mos_text_or(c->baud, NULL) : mos_text_or(c->port, NULL);
}

/* The whole of it, its last part, or that without its ending; how many bytes a piece has. */
static const char *shaped(struct mos_plan *plan, const char *name, const char *text,
                          const char *shape) {
    const char *last = text ? strrchr(text, '/') : NULL;
    struct mos_arena *arena = plan->ctx->arena;
    if (strcmp(shape, "size") == 0)
        for (size_t i = 0; i < plan->pieces.count; i++) {
            const struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
            if (strcmp(p->def->r.name, name) == 0)
                return mos_plan_is_there(p) ? mos_printf(arena, "%llu", (unsigned long long)p->size)
                                            : NULL;
        }
    if (!text || !*shape)
        return text;
    last = last ? last + 1 : text;
    if (strcmp(shape, "name") == 0)
        return last;
    if (strcmp(shape, "stem") == 0)
        return mos_strndup(arena, last,
                           strrchr(last, '.') ? (size_t)(strrchr(last, '.') - last) : strlen(last));
    return NULL;
}

static const char *meaning(struct writer *w, const char *name, const char *shape,
                           const char *overlay) {
    struct mos_plan *plan = w->plan;
    const char *dot = strchr(name, '.');
    const struct mos_entry_plan *e = entry_called(plan, name, dot ? (size_t)(dot - name) : 0);
    const char *text = e ? of_entry(e, dot ? dot + 1 : name) : NULL;
    w->out->takes_arguments |= text && strcmp(dot ? dot + 1 : name, "arguments") == 0;
    if (strcmp(name, "overlays") == 0)
        return shaped(plan, name, overlay, shape);
    if (strcmp(name, "console") == 0 && *shape)
        return strcmp(shape, "port") == 0 || strcmp(shape, "baud") == 0 ? console_part(plan, shape)
                                                                        : NULL;
    return shaped(plan, name, text ? text : mos_plan_meaning(plan, name), shape);
}

/* ---- places ---- */

/* Where a line of the text stands in its file. */
static struct mos_place place_of(struct writer *w, const char *line, size_t length) {
    const struct mos_source *s = w->text->place.source;
    while (length && isspace((unsigned char)line[length - 1]))
        length--;
    const char *from = w->searched, *end = s ? s->text + s->length : NULL;
    for (const char *p = from; s && length && p + length <= end; p++)
        if (memcmp(p, line, length) == 0) {
            w->searched = p + length;
            return mos_place_at(s, (size_t)(p - s->text), length);
        }
    return w->text->place;
}

static void unknown(struct writer *w, const char *name, struct mos_place place) {
    static const char *const usual[] = {
        "kernel",   "tree",         "ramdisk",      "arguments",     "console",
        "overlays", "console:port", "console:baud", "overlays:name", "overlays:stem"};
    struct mos_findings *list = &w->plan->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOARD_REFERENCE, "There is nothing called <%s>.", name);
    w->out->broken = true;
    mos_finding_at(list, f, place);
    mos_finding_why(list, f, "The firmware would read the name instead of what it stands for.");
    const char *near = mos_near(name, usual, sizeof usual / sizeof *usual);
    if (near)
        mos_finding_try(list, f, "Write <%s>.", near);
    else
        mos_finding_try(list, f,
                        "Choose one of <kernel>, <tree>, <ramdisk>, <overlays>, <arguments>, "
                        "<console> and the name of a region.");
}

/* ---- writing ---- */

/* A name in < >, with its shape behind a colon, copied apart; NULL: the sign stands for itself. */
static const char *reference(struct mos_arena *arena, const char *open, const char *end,
                             const char **name, const char **shape) {
    size_t n = 1;
    while (open + n < end && (isalnum((unsigned char)open[n]) || strchr("-_.:", open[n])))
        n++;
    if (n == 1 || open + n >= end || open[n] != '>' || !isalpha((unsigned char)open[1]))
        return NULL;
    char *copy = mos_strndup(arena, open + 1, n - 1), *colon = strchr(copy, ':');
    *shape = colon ? colon + 1 : "";
    if (colon)
        *colon = 0;
    *name = copy;
    return open + n + 1;
}

/* One line as it comes out; overlay: what <overlays> stands for this time. */
static void write_line(struct writer *w, const char *line, size_t length, const char *overlay,
                       struct mos_place place) {
    struct mos_buf *out = &w->out->text;
    for (const char *p = line, *end = line + length; p < end;) {
        const char *name, *shape, *behind = NULL;
        if (*p == '<')
            behind = reference(w->plan->ctx->arena, p, end, &name, &shape);
        if (!behind) {
            mos_buf_add(out, p++, 1);
            continue;
        }
        const char *text = meaning(w, name, shape, overlay);
        if (text)
            mos_buf_text(out, text);
        else
            unknown(w, *shape ? mos_printf(w->plan->ctx->arena, "%s:%s", name, shape) : name,
                    place);
        p = behind;
    }
}

/* ---- reading it back, as the firmware does ---- */

/* Splits by a form such as "<key>=<value>"; false: the line is none of these. */
static bool split(struct mos_arena *arena, const char *form, const char *line, const char **key,
                  const char **value) {
    const char *k = strstr(form, "<key>"), *v = strstr(form, "<value>");
    if (!k || !v || v < k + 5)
        return false;
    size_t before = (size_t)(k - form), between = (size_t)(v - k) - 5, length = strlen(line);
    const char *behind = v + 7;
    size_t tail = strlen(behind);
    if (length < before + between + tail || strncmp(line, form, before) != 0 ||
        strcmp(line + length - tail, behind) != 0 || !between)
        return false;
    const char *sign = mos_strndup(arena, k + 5, between), *at = strstr(line + before, sign);
    if (!at || at + between > line + length - tail)
        return false;
    const char *end = at;
    while (end > line + before && isspace((unsigned char)end[-1]))
        end--;
    *key = mos_strndup(arena, line + before, (size_t)(end - line) - before);
    at += between + strspn(at + between, " \t");
    *value = mos_strndup(arena, at, (size_t)(line + length - tail - at));
    return **key != 0;
}

static bool section_holds(const struct mos_settings *s, const char *name) {
    bool holds = !s->holds.count;
    for (size_t i = 0; i < s->holds.count && !holds; i++)
        holds = mos_has(s->holds.items[i]) && strcmp(s->holds.items[i]->text, name) == 0;
    return holds;
}

/* Takes what was written from `from` on apart; *holds: the section that it stands in does. */
static void read_line(struct writer *w, size_t from, struct mos_place place, bool *holds) {
    const struct mos_settings *s = w->out->fill->settings;
    assert(from <= w->out->text.length);
    struct mos_arena *arena = w->plan->ctx->arena;
    if (s && s->r.broken)
        return;
    const char *all = mos_buf_string(&w->out->text) + from;
    char *line = mos_strdup(arena, all + strspn(all, " \t"));
    size_t n = strlen(line);
    while (n && isspace((unsigned char)line[n - 1]))
        line[--n] = 0;
    const char *comment = mos_text_or(s ? s->comment : NULL, "#");
    if (!n || (*comment && strncmp(line, comment, strlen(comment)) == 0))
        return;
    if (*line == '[' && line[n - 1] == ']') {
        *holds = !s || section_holds(s, mos_strndup(arena, line + 1, n - 2));
        return;
    }
    struct mos_settings_line x = {.holds = *holds, .place = place};
    if (split(arena, mos_text_or(s ? s->form : NULL, "<key>=<value>"), line, &x.key, &x.value))
        *(struct mos_settings_line *)mos_vec_push(&w->out->lines) = x;
}

static void write_text(struct writer *w) {
    bool holds = true;
    for (const char *line = w->text->text, *next; *line; line = next) {
        size_t n = strcspn(line, "\n");
        next = line + n + (line[n] == '\n');
        const char *per = strstr(line, "<overlays");
        bool each = per && per < line + n;
        struct mos_place place = place_of(w, line, n);
        size_t times = each ? w->plan->boot_overlays.count : 1;
        for (size_t i = 0; i < times; i++) {
            size_t from = w->out->text.length;
            write_line(w, line, n, each ? overlay_file(w->plan, i) : NULL, place);
            read_line(w, from, place, &holds);
            mos_buf_text(&w->out->text, "\n");
        }
    }
}

static void add(struct mos_plan *plan, const struct mos_region_plan *region,
                const struct mos_fill *fill) {
    assert(mos_has(fill->text) && region->def->volume);
    struct mos_buf path = {.arena = plan->ctx->arena};
    const char *to = mos_has(fill->to) ? mos_entry_path(&path, fill->to->text) : NULL;
    const struct mos_source *s = fill->text->place.source;
    struct mos_settings_plan *out = mos_alloc(plan->ctx->arena, sizeof *out);
    *out = (struct mos_settings_plan){
        .region = region,
        .fill = fill,
        .path = to && *to ? to : fill->r.name,
        .text = {.arena = plan->ctx->arena},
        .lines = mos_vec_make(plan->ctx->arena, sizeof(struct mos_settings_line))};
    struct writer w = {plan, out, fill->text, s ? s->text + fill->text->place.offset : NULL};
    write_text(&w);
    mos_vec_push_pointer(&plan->settings, out);
}

void mos_plan_settings(struct mos_plan *plan) {
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            const struct mos_volume *v = r->copy ? NULL : r->def->volume;
            for (size_t k = 0; v && k < v->fills.count; k++) {
                const struct mos_fill *f = v->fills.items[k];
                if (mos_has(f->text) && !f->r.broken)
                    add(plan, r, f);
            }
        }
    }
}

const struct mos_settings_plan *mos_plan_settings_of(const struct mos_plan *plan,
                                                     const struct mos_fill *fill) {
    for (size_t i = 0; i < plan->settings.count; i++) {
        const struct mos_settings_plan *s = mos_vec_pointer(&plan->settings, i);
        if (s->fill == fill)
            return s;
    }
    return NULL;
}

size_t mos_plan_settings_values(const struct mos_plan *plan, const struct mos_settings_plan *s,
                                const char *value, const char **out, size_t most) {
    const char *sign = mos_text_or(s->fill->settings->separator, " ");
    size_t n = strlen(sign), count = 0;
    assert(most);
    for (const char *p = value; *p && count < most;) {
        const char *end = n ? strstr(p, sign) : NULL;
        end = end ? end : p + strlen(p);
        const char *from = p + strspn(p, " \t"), *to = end;
        while (to > from && isspace((unsigned char)to[-1]))
            to--;
        if (to > from)
            out[count++] = mos_strndup(plan->ctx->arena, from, (size_t)(to - from));
        p = *end ? end + n : end;
    }
    return count;
}
