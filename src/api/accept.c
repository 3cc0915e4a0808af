/* check --accept: what is found today becomes waivers, for a board that is adopted as it is. */
#include "api/run.h"

#include <string.h>

/* The name of a board in a selector. */
static const char *board_of(mosaicum *m, const char *selector) {
    return mos_strndup(m->arena, selector, strcspn(selector, "+"));
}

/* A name that no waiver of the file has. */
static const char *new_name(mosaicum *m, const char *rule, const char *text) {
    char *name = mos_strdup(m->arena, rule);
    for (char *p = name; *p; p++)
        if (*p == '.')
            *p = '-';
    for (unsigned n = 1;; n++) {
        const char *full = mos_printf(m->arena, "%s-%u", name, n);
        if (!strstr(text, mos_printf(m->arena, "  %s:", full)))
            return full;
    }
}

static void add_waiver(mosaicum *m, struct mos_buf *text, const struct run_finding *f) {
    const char *name = new_name(m, f->f.rule, mos_buf_string(text));
    mos_buf_text(text, "  # ");
    mos_yaml_comment(text, f->f.message);
    mos_buf_printf(text, "\n  %s:\n    rule: %s\n    place: ", name, f->f.rule);
    mos_yaml_scalar(text, f->waiver);
    mos_buf_text(text, "\n    reason: \"accepted as it was; say why\"\n");
}

static bool is_written(const struct mos_vec *written, const struct run_finding *f) {
    for (size_t i = 0; i < written->count; i++) {
        const struct run_finding *o = mos_vec_pointer(written, i);
        if (o->rule == f->rule && strcmp(o->waiver, f->waiver) == 0)
            return true;
    }
    return false;
}

static bool load_old(mosaicum *m, const char *path, struct mos_buf *text) {
    char *data;
    size_t length;
    if (mos_exists(&m->ctx, path)) {
        if (!mos_read_file(&m->ctx, path, MOS_YAML_LIMIT, &data, &length))
            return false;
        mos_buf_add(text, data, length);
        if (length && data[length - 1] != '\n')
            mos_buf_char(text, '\n');
    } else {
        mos_buf_text(text, "mosaicum: 1\n"
                           "# Written by mosaicum check --accept; edit as you like.\nwaivers:\n");
    }
    return true;
}

static bool accept_board(mosaicum *m, const char *board, struct report_table *t) {
    struct mos_vec written = mos_vec_make(m->arena, sizeof(void *));
    struct mos_buf text = {.arena = m->arena};
    const char *shown = mos_printf(m->arena, "waivers/%s.yaml", board);
    const char *path = mos_path_join(m->arena, m->options.workspace, shown);
    if (!load_old(m, path, &text))
        return false;
    for (size_t i = 0; i < m->published.count; i++) {
        const struct run_finding *f = mos_vec_pointer(&m->published, i);
        if (f->unparsable || !f->waiver || !f->f.selector || f->rule == MOS_RULE_BOARD_WAIVER ||
            f->rule == MOS_RULE_BOARD_OUTSIDE || strcmp(board_of(m, f->f.selector), board) != 0 ||
            is_written(&written, f))
            continue;
        add_waiver(m, &text, f);
        mos_vec_push_pointer(&written, f);
    }
    if (!written.count)
        return true;
    cell_text(t, board);
    cell_number(t, written.count);
    cell_text(t, shown);
    return mos_write_file(&m->ctx, path, text.data, text.length);
}

bool run_accept(mosaicum *m) {
    static const struct mosaicum_column columns[] = {
        {"board", "board", false}, {"waivers", "waivers", true}, {"file", "file", false}};
    struct report_table t = report_start(&m->report, "accepted", "Accepted", columns, 3);
    for (size_t i = 0; i < m->workspace->board_names.count; i++)
        if (!accept_board(m, mos_vec_pointer(&m->workspace->board_names, i), &t))
            return false;
    if (t.cells.count)
        report_end(&m->report, &t);
    m->published.count = 0; /* they are accepted now */
    m->finding_count = 0;
    return true;
}
