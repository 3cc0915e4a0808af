#include "rules/rules.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

/* ---- features ---- */

struct board_view {
    const struct mos_plan *plan;
    const struct mos_feature *feature;
    struct mos_findings *list;
    struct mos_arena *arena;
    size_t met, lacking;
    const char *first;      /* what is lacking, in words */
    const char *remedy;     /* what to write so that it is there */
    struct mos_place place; /* of the need */
    struct mos_buf more;
};

static void lack(struct board_view *v, struct mos_place place, const char *what,
                 const char *remedy) {
    if (!v->lacking++) {
        v->first = what;
        v->remedy = remedy;
        v->place = place;
    } else if (v->lacking < 6) {
        mos_buf_printf(&v->more, "%s%s", v->more.length ? "; " : "", what);
    }
}

static bool value_fits(const struct mos_argument *need, const char *value) {
    for (size_t i = 0; i < need->values.count; i++)
        if (mos_has(need->values.items[i]) && strcmp(need->values.items[i]->text, value) == 0)
            return true;
    return need->values.count == 0;
}

static void look_at_symbols(struct board_view *v, const struct mos_needs *n) {
    for (size_t i = 0; i < n->symbols.count && v->plan->has_config; i++) {
        const struct mos_argument *need = n->symbols.items[i];
        const struct mos_setting *is = mos_map_get(&v->plan->config, need->r.name);
        if (is && value_fits(need, is->value))
            v->met++;
        else
            lack(v, need->r.key_place,
                 is ? mos_printf(v->arena, "the kernel configuration has %s=%s", need->r.name,
                                 is->value)
                    : mos_printf(v->arena, "the kernel configuration does not ask for %s",
                                 need->r.name),
                 mos_printf(v->arena, "Set %s=%s in a fragment", need->r.name,
                            need->values.count ? mos_text_or(need->values.items[0], "y") : "y"));
    }
}

/* " at tree/curlew.dts:31", where its status is set, or else the node begins. */
static const char *where(const struct board_view *v, const struct mos_dt_node *node) {
    const struct mos_dt_property *p = mos_dt_property(node, "status");
    struct mos_place at = p && p->place.source ? p->place : node->place;
    if (!at.source)
        return "";
    return mos_printf(v->arena, " at %s:%u", at.source->shown_path,
                      mos_source_position(at.source, at.offset).line);
}

static struct mos_dt_node *find_node(const struct mos_dt *tree, const char *name) {
    return *name == '&' ? mos_dt_by_label(tree, name + 1) : mos_dt_find(tree, name);
}

static void look_at_nodes(struct board_view *v, const struct mos_needs *n) {
    const struct mos_blob_plan *b =
        v->plan->blobs.count ? mos_vec_pointer(&v->plan->blobs, 0) : NULL;
    for (size_t i = 0; i < n->nodes.count && b && b->tree; i++) {
        const struct mos_value *need = n->nodes.items[i];
        const struct mos_dt_node *node = mos_has(need) ? find_node(b->tree, need->text) : NULL;
        const char *status = node ? mos_dt_string(node, "status") : NULL;
        if (node && (!status || strcmp(status, "okay") == 0))
            v->met++;
        else if (mos_has(need))
            lack(v, need->place,
                 mos_printf(v->arena, "the device tree has %s %s",
                            node ? "disabled the node" : "no node", need->text),
                 node ? mos_printf(v->arena, "Set status = \"okay\"; for %s%s",
                                   mos_dt_path(v->arena, node), where(v, node))
                      : mos_printf(v->arena, "Add the node %s to the tree or an overlay",
                                   need->text));
    }
}

static void look_at_files(struct board_view *v, const struct mos_needs *n) {
    for (size_t i = 0; i < n->files.count; i++) {
        const struct mos_value *need = n->files.items[i];
        struct mos_buf buffer = {.arena = v->arena};
        const char *path = mos_has(need) ? mos_entry_path(&buffer, need->text) : NULL;
        bool found = false, known = false, all = true;
        for (size_t m = 0; m < v->plan->media.count && path; m++) {
            const struct mos_medium_plan *medium = mos_vec_pointer(&v->plan->media, m);
            for (size_t k = 0; k < medium->regions.count; k++) {
                const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, k);
                uint32_t index;
                known |= r->volume != NULL;
                all &= !r->fs || r->volume != NULL;
                found |= r->volume && mos_inv_find(r->volume->inventory, path, &index);
            }
        }
        if (found)
            v->met++;
        else if (path && known && all)
            lack(v, need->place, mos_printf(v->arena, "no volume holds /%s", path),
                 mos_printf(v->arena, "Bring /%s with a fill", path));
    }
}

static bool has_argument(const char *arguments, const char *need) {
    size_t n = strlen(need);
    for (const char *p = arguments; (p = strstr(p, need)); p++)
        if ((p == arguments || p[-1] == ' ') && (!p[n] || p[n] == ' ' || p[n] == '='))
            return true;
    return false;
}

static void look_at_arguments(struct board_view *v, const struct mos_needs *n) {
    const struct mos_entry_plan *e =
        v->plan->entries.count ? mos_vec_pointer(&v->plan->entries, 0) : NULL;
    for (size_t i = 0; i < n->arguments.count && e; i++) {
        const struct mos_value *need = n->arguments.items[i];
        if (mos_has(need) && has_argument(e->step.arguments, need->text))
            v->met++;
        else if (mos_has(need))
            lack(v, need->place,
                 mos_printf(v->arena, "entry %s has no argument %s", e->def->r.name, need->text),
                 mos_printf(v->arena, "Add %s to the arguments of entry %s", need->text,
                            e->def->r.name));
    }
}

static void check_feature(const struct mos_plan *plan, const struct mos_part *part) {
    const struct mos_feature *feature = part->feature;
    if (!feature->needs)
        return;
    struct board_view v = {.plan = plan,
                           .feature = feature,
                           .list = &plan->ctx->findings,
                           .arena = plan->ctx->arena,
                           .more = {.arena = plan->ctx->arena}};
    look_at_symbols(&v, feature->needs);
    look_at_nodes(&v, feature->needs);
    look_at_files(&v, feature->needs);
    look_at_arguments(&v, feature->needs);
    if (!v.lacking)
        return;
    const struct mos_record *use = mos_named_get(&plan->board->features, part->name);
    struct mos_finding *f;
    if (v.met) {
        f = mos_find(v.list, MOS_RULE_BOARD_FEATURE, "Feature %s cannot work: %s.", part->name,
                     v.first);
        mos_finding_try(v.list, f, "%s, or remove %s from the features.", v.remedy, part->name);
    } else {
        f = mos_find(v.list, MOS_RULE_BOARD_FEATURE,
                     "Feature %s is idle: nothing that it needs is there (%s).", part->name,
                     v.first);
        f->severity = MOS_SEVERITY_WARNING;
        mos_finding_try(v.list, f, "Write ~%s: under features, or bring what it needs.",
                        part->name);
    }
    if (use)
        mos_finding_at(v.list, f, use->key_place);
    mos_finding_at(v.list, f, v.place);
    if (v.lacking > 1)
        mos_finding_why(v.list, f, "It lacks %zu things in all; also: %s.", v.lacking,
                        mos_buf_string(&v.more));
}

/* ---- this computer ---- */

static void check_programs(const struct mos_plan *plan) {
    const struct mos_host *h = plan->ctx->host;
    for (size_t i = 0; i < plan->pieces.count; i++) {
        const struct mos_piece_plan *p = mos_vec_pointer(&plan->pieces, i);
        const struct mos_made_by *m = p->def->made_by;
        const struct mos_value *program = m && m->run.count ? m->run.items[0] : NULL;
        if (!mos_has(program) || (strchr(program->text, '/') && program->text[0] != '/'))
            continue; /* a script of the workspace is an input */
        if (h->has_program(h, program->text))
            continue;
        struct mos_finding *f =
            mos_find(&plan->ctx->findings, MOS_RULE_BOARD_HOST,
                     "Piece %s is made with %s, which this computer does not have.", p->def->r.name,
                     program->text);
        mos_finding_at(&plan->ctx->findings, f, program->place);
        mos_finding_why(&plan->ctx->findings, f,
                        "It is looked for in /usr/local/bin, /usr/bin "
                        "and /bin.");
        mos_finding_try(&plan->ctx->findings, f, "Install it, or state the program by its path.");
    }
}

static void check_room(const struct mos_plan *plan) {
    const struct mos_host *h = plan->ctx->host;
    struct mos_arena *arena = plan->ctx->arena;
    uint64_t needed = 0, room;
    const struct mos_medium_plan *largest = NULL;
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        largest = largest ? largest : m;
        for (size_t k = 0; k < m->regions.count; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            /* what surely takes blocks of the disk; structures are mostly holes */
            if (!r->written)
                needed += r->counted ? r->result.content : r->content;
        }
    }
    const char *out = plan->ctx->out_folder ? plan->ctx->out_folder
                                            : mos_path_join(arena, plan->board->root, "out");
    if (!largest || h->room(h, out, &room) || room >= needed)
        return;
    struct mos_finding *f =
        mos_find(&plan->ctx->findings, MOS_RULE_BOARD_HOST,
                 "The images need at least %s on the disk of %s, which has %s left.",
                 mos_size_about(arena, needed), out, mos_size_about(arena, room));
    mos_finding_at(&plan->ctx->findings, f, largest->def->r.key_place);
    mos_finding_try(&plan->ctx->findings, f, "Make room, or build elsewhere with --out DIR.");
}

/* ---- what the root is told ---- */

static bool is_told(const struct mos_plan *plan) {
    for (size_t m = 0; m < plan->board->layout.count; m++) {
        const struct mos_layout *l = plan->board->layout.items[m];
        for (size_t i = 0; i < l->regions.count; i++) {
            const struct mos_volume *v = ((struct mos_region *)l->regions.items[i])->volume;
            for (size_t k = 0; v && k < v->fills.count; k++) {
                if (mos_fill_makes(v->fills.items[k], MOS_MADE_SYSTEM))
                    return true;
            }
        }
    }
    return false;
}

static void check_told(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    if (!s || s->r.broken || (!s->users.count && !s->log_in && !s->loader_access) || is_told(plan))
        return;
    struct mos_finding *f = mos_find(&plan->ctx->findings, MOS_RULE_BOARD_SYSTEM_UNUSED,
                                     "What system states goes into no volume.");
    mos_finding_at(&plan->ctx->findings, f,
                   s->users.count ? s->users.node->key_place
                   : s->log_in    ? s->log_in->r.key_place
                                  : s->loader_access->place);
    mos_finding_why(&plan->ctx->findings, f,
                    "Users, log-in and the rest are files that a fill brings.");
    mos_finding_try(&plan->ctx->findings, f,
                    "Add fills: {system: {made: system}} behind the others of the root volume.");
}

void mos_rule_board(const struct mos_plan *plan) {
    check_told(plan);
    for (size_t i = 0; i < plan->board->feature_parts.count; i++) {
        const struct mos_part *part = mos_vec_pointer(&plan->board->feature_parts, i);
        if (part->feature)
            check_feature(plan, part);
    }
    check_programs(plan);
    check_room(plan);
}
