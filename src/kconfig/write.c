/* A configuration as a file, in the form that the kernel's own tools write and read. */
#include "kconfig/values.h"

#include <string.h>

struct writer {
    struct mos_kc_config *c;
    struct mos_buf out;
    uint8_t *done; /* by symbol: it was written */
    bool gap;      /* an empty line comes before the next setting */
};

const char *mos_kc_quoted(struct mos_kc_config *c, const char *text) {
    struct mos_buf out = {.arena = c->arena};
    mos_buf_char(&out, '"');
    for (; *text; text++) {
        if ((*text == '"' || *text == '\\') && !c->tree->manner.raw)
            mos_buf_char(&out, '\\');
        mos_buf_char(&out, *text);
    }
    mos_buf_char(&out, '"');
    return mos_buf_string(&out);
}

static void write_symbol(struct writer *w, const struct mos_kc_symbol *s) {
    const struct mos_kc_value *v = &w->c->values[s->index];
    bool here = v->written || w->c->tree->manner.whole;
    if (!here || w->done[s->index] || s->is_choice || s->type == MOS_KC_UNKNOWN)
        return;
    w->done[s->index] = 1;
    if (w->gap)
        mos_buf_char(&w->out, '\n');
    w->gap = false;
    const char *text = mos_kc_text(w->c, s);
    bool three = s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE;
    if (three && *text == 'n') {
        mos_buf_printf(&w->out, "# CONFIG_%s is not set\n", s->name);
        return;
    }
    mos_buf_printf(&w->out, "CONFIG_%s=%s\n", s->name,
                   s->type == MOS_KC_STRING ? mos_kc_quoted(w->c, text) : text);
}

static bool is_seen(struct writer *w, const struct mos_kc_entry *e) {
    return e->text && mos_kc_expr_value(w->c, e->visible_if) != MOS_TRI_N &&
           mos_kc_expr_value(w->c, e->depends) != MOS_TRI_N;
}

static void write_below(struct writer *w, const struct mos_kc_entry *within) {
    for (const struct mos_kc_entry *e = within->first; e; e = e->next) {
        bool titled =
            (e->kind == MOS_KC_ENTRY_MENU || e->kind == MOS_KC_ENTRY_COMMENT) && is_seen(w, e);
        if (titled) {
            mos_buf_printf(&w->out, "\n#\n# %s\n#\n", e->text);
            w->gap = false;
        } else if (e->kind == MOS_KC_ENTRY_CONFIG) {
            write_symbol(w, e->symbol);
        }
        write_below(w, e);
        if (titled && e->kind == MOS_KC_ENTRY_MENU && w->c->tree->manner.ends) {
            mos_buf_printf(&w->out, "# end of %s\n", e->text);
            w->gap = true;
        }
    }
}

const char *mos_kc_write(struct mos_kc_config *c, size_t *length) {
    struct writer w = {
        .c = c, .out = {.arena = c->arena}, .done = mos_alloc(c->arena, c->tree->all.count)};
    mos_buf_text(&w.out, "#\n# Worked out by mosaicum\n");
    mos_buf_printf(&w.out, "# %s\n#\n",
                   c->tree->root->text ? c->tree->root->text : "Configuration");
    write_below(&w, c->tree->root);
    *length = w.out.length;
    return mos_buf_string(&w.out);
}
