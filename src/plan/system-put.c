/* Files of the root as they are put, and texts that earlier fills brought as they are edited. */
#include "plan/system_internal.h"

#include "base/text.h"

#include <string.h>

bool system_put(struct system_writer *w, const char *path, uint16_t mode, uint32_t owner,
                const char *text) {
    struct mos_entry as = {
        .path = path, .mode = mode, .uid = owner, .gid = owner, .mtime = w->plan->board->date};
    return mos_bytes_stream(&as, text, strlen(text), w->sink);
}

/* A file that an earlier fill may have brought: it keeps its owner, group and mode. */
bool system_put_edited(struct system_writer *w, const char *path, uint16_t mode, const char *text) {
    const struct mos_inventory *inv = w->region->volume->inventory;
    struct mos_entry as = {.path = path, .mode = mode, .mtime = w->plan->board->date};
    uint32_t index;
    if (mos_inv_find(inv, path, &index) && mos_inv_node(inv, index)->type == MOS_ENTRY_FILE) {
        const struct mos_inv_node *n = mos_inv_node(inv, index);
        as.mode = n->mode;
        as.uid = n->uid;
        as.gid = n->gid;
    }
    return mos_bytes_stream(&as, text, strlen(text), w->sink);
}

bool system_put_folder(struct system_writer *w, const char *path, uint16_t mode, uint32_t owner) {
    struct mos_entry as = {.path = path,
                           .type = MOS_ENTRY_FOLDER,
                           .mode = mode,
                           .uid = owner,
                           .gid = owner,
                           .mtime = w->plan->board->date};
    return w->sink->entry(w->sink->self, &as) && w->sink->end(w->sink->self, 0);
}

/* What an earlier fill brought; "" when there is nothing. */
const char *system_old_text(struct system_writer *w, const char *path) {
    const struct mos_text_file *t = mos_plan_text(w->region, path);
    return t && t->text ? t->text : "";
}

const char *system_line_of(const char *text, const char *name) {
    size_t n = strlen(name);
    while (text && *text) {
        if (strncmp(text, name, n) == 0 && text[n] == ':')
            return text;
        text = mos_next_line(text);
    }
    return NULL;
}

/* The text with the line of `name` replaced or, when there is none, put at the end. */
const char *system_with_line(struct system_writer *w, const char *text, const char *name,
                             const char *line) {
    struct mos_buf b = {.arena = w->arena};
    const char *old = system_line_of(text, name);
    if (old) {
        mos_buf_add(&b, text, (size_t)(old - text));
        mos_buf_printf(&b, "%s\n", line);
        old += strcspn(old, "\n");
        mos_buf_text(&b, old + (*old == '\n'));
    } else {
        mos_buf_text(&b, text);
        if (b.length && b.data[b.length - 1] != '\n')
            mos_buf_char(&b, '\n');
        mos_buf_printf(&b, "%s\n", line);
    }
    return mos_buf_string(&b);
}

/* The first line of a file of the workspace. */
const char *system_first_line(struct system_writer *w, const struct mos_value *path,
                              const char *what) {
    struct mos_ctx *ctx = w->plan->ctx;
    char *data;
    size_t length;
    const char *full;
    struct mos_file_info info;
    if (!mos_plan_reach(w->plan, path->text, MOS_FILE_REGULAR, what, path->place, &full, &info) ||
        !mos_read_file(ctx, full, 64 << 10, &data, &length))
        return NULL;
    data[strcspn(data, "\r\n")] = 0;
    return data;
}

const char *system_inittab(struct system_writer *w) {
    return w->inittab ? w->inittab : system_old_text(w, "etc/inittab");
}

/* The kind that has runlevels, and whose lines begin with an identifier of at most four letters;
 * else they begin with a terminal, or with nothing. */
bool system_has_runlevels(struct system_writer *w) {
    return strstr(system_inittab(w), ":initdefault:") != NULL;
}

void system_add_action(struct system_writer *w, const char *id, const char *levels,
                       const char *action, const char *command) {
    bool full = system_has_runlevels(w);
    const char *line = mos_printf(w->arena, "%s:%s:%s:%s", full ? id : "", full ? levels : "",
                                  action, command),
               *text = system_inittab(w);
    size_t n = strlen(line);
    for (const char *p = text; *p; p = mos_next_line(p))
        if (strncmp(p, line, n) == 0 && (p[n] == '\n' || !p[n])) {
            w->inittab = text;
            return;
        }
    w->inittab = mos_printf(w->arena, "%s%s%s\n", text,
                            *text && text[strlen(text) - 1] != '\n' ? "\n" : "", line);
}

bool system_put_link(struct system_writer *w, const char *path, const char *target) {
    struct mos_entry as = {.path = path,
                           .type = MOS_ENTRY_LINK,
                           .mode = 0777,
                           .mtime = w->plan->board->date,
                           .target = target};
    return w->sink->entry(w->sink->self, &as) && w->sink->end(w->sink->self, 0);
}
