/* Nodes judged by schemas. */
#include "bindings/judge_internal.h"
#include "bindings/pattern.h"

#include "base/text.h"

#include <string.h>

/* A property or child of a node that is judged. */
struct member {
    const char *name;
    const struct mos_dt_property *property;
    const struct mos_dt_node *child;
};

/* A node with what a schema, and all that stands in its place, has said of its members. */
struct scope {
    const struct mos_dt_node *node;
    const struct member *members;
    size_t count;
    bool *seen; /* … which count as evaluated */
    bool open;  /* a part could not be judged: others may be, too */
};

static enum mos_verdict judge_node(struct mos_judge *j, struct mos_schema s, struct scope *sc,
                                   bool tell);

static struct scope scope_of(struct mos_judge *j, const struct mos_dt_node *node) {
    struct scope sc = {.node = node};
    size_t n = 0;
    for (const struct mos_dt_property *p = node->properties; p; p = p->next)
        n += !p->removed;
    for (const struct mos_dt_node *c = node->first_child; c; c = c->next)
        n += !c->removed;
    struct member *members = mos_alloc_array(j->arena, n, sizeof *members);
    for (const struct mos_dt_property *p = node->properties; p; p = p->next)
        if (!p->removed)
            members[sc.count++] = (struct member){p->name, p, NULL};
    for (const struct mos_dt_node *c = node->first_child; c; c = c->next)
        if (!c->removed)
            members[sc.count++] = (struct member){c->name, NULL, c};
    sc.members = members;
    sc.seen = mos_alloc_array(j->arena, n, sizeof *sc.seen);
    return sc;
}

/* The same members, none seen. */
static struct scope fresh(struct mos_judge *j, const struct scope *of) {
    struct scope sc = *of;
    sc.seen = mos_alloc_array(j->arena, sc.count, sizeof *sc.seen);
    sc.open = false;
    return sc;
}

static void add_seen(struct scope *to, const struct scope *from) {
    for (size_t i = 0; i < to->count; i++)
        to->seen[i] |= from->seen[i];
    to->open |= from->open;
}

static const struct member *member_of(const struct scope *sc, const char *name) {
    for (size_t i = 0; i < sc->count; i++)
        if (strcmp(sc->members[i].name, name) == 0)
            return &sc->members[i];
    return NULL;
}

/* ---- faults ---- */

static struct mos_binding_fault *fault(struct mos_judge *j, const struct mos_dt_node *node,
                                       const struct mos_dt_property *p, struct mos_schema rule,
                                       const char *text) {
    struct mos_binding_fault *f = mos_vec_push(&j->faults);
    *f = (struct mos_binding_fault){
        .node = node, .property = p, .text = text, .file = rule.file, .rule = rule.node};
    return f;
}

static const struct mos_node *description_of(const struct mos_node *schema) {
    const struct mos_node *d =
        schema && schema->kind == MOS_NODE_MAP ? mos_node_get(schema, "description") : NULL;
    return d && d->kind == MOS_NODE_SCALAR ? d : NULL;
}

/* ---- members ---- */

/* What every node may have, whatever its file lists. */
static bool always_allowed(const char *name) {
    static const char *const words[] = {"status",
                                        "secure-status",
                                        "phandle",
                                        "linux,phandle",
                                        "pinctrl-names",
                                        "interrupt-parent",
                                        "interrupts-extended",
                                        "assigned-clocks",
                                        "assigned-clock-rates",
                                        "assigned-clock-parents",
                                        "$nodename",
                                        "__symbols__",
                                        "bootph-all",
                                        "bootph-some-ram",
                                        "bootph-pre-ram",
                                        "bootph-pre-sram",
                                        "bootph-verify"};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (strcmp(name, words[i]) == 0)
            return true;
    return strncmp(name, "pinctrl-", 8) == 0 && name[8 + strspn(name + 8, "0123456789")] == 0;
}

static enum mos_verdict judge_member(struct mos_judge *j, struct mos_schema s,
                                     const struct mos_dt_node *node, const struct member *m,
                                     bool tell) {
    if (m->child) {
        if (!mos_dt_is_on(m->child))
            return MOS_GOOD; /* it is not looked at */
        struct scope sc = scope_of(j, m->child);
        return judge_node(j, s, &sc, tell);
    }
    if (!j->known_compatible && node == j->top && strcmp(m->name, "compatible") == 0)
        return MOS_OPEN;
    enum mos_verdict v = mos_judge_value(j, s, node, m->property);
    j->unknown += v == MOS_OPEN && tell;
    if (v == MOS_BAD && tell) {
        struct mos_binding_fault *f = fault(j, node, m->property, j->broken, j->why);
        f->remedy = j->remedy;
        f->description = description_of(s.node);
    }
    return v;
}

/* One entry of "properties". */
static enum mos_verdict judge_named(struct mos_judge *j, struct mos_schema s, struct scope *sc,
                                    bool *own, bool tell) {
    enum mos_verdict v = MOS_GOOD;
    for (size_t i = 0; i < s.node->count; i++) {
        const struct mos_node *k = s.node->items[i];
        struct mos_schema below = {s.file, k};
        if (strcmp(k->key, "$nodename") == 0 && sc->node != j->top)
            continue; /* it is about nodes that a file is for */
        if (strcmp(k->key, "$nodename") == 0) {
            enum mos_verdict one = mos_judge_text(j, below, *sc->node->name ? sc->node->name : "/");
            v = mos_verdict_and(v, one);
            if (one == MOS_BAD && tell)
                fault(j, sc->node, NULL, j->broken, j->why);
            continue;
        }
        const struct member *m = member_of(sc, k->key);
        if (!m)
            continue;
        own[m - sc->members] = sc->seen[m - sc->members] = true;
        v = mos_verdict_and(v, judge_member(j, below, sc->node, m, tell));
    }
    return v;
}

static enum mos_verdict judge_patterns(struct mos_judge *j, struct mos_schema s, struct scope *sc,
                                       bool *own, bool tell) {
    enum mos_verdict v = MOS_GOOD;
    for (size_t i = 0; i < s.node->count; i++) {
        const struct mos_node *k = s.node->items[i];
        for (size_t m = 0; m < sc->count; m++) {
            bool known, fits = mos_schema_pattern(j->arena, k->key, sc->members[m].name, &known);
            if (!known) {
                j->unknown += tell;
                sc->open = true;
                memset(own, true, sc->count);
                return mos_verdict_and(v, MOS_OPEN);
            }
            if (!fits)
                continue;
            own[m] = sc->seen[m] = true;
            v = mos_verdict_and(v, judge_member(j, (struct mos_schema){s.file, k}, sc->node,
                                                &sc->members[m], tell));
        }
    }
    return v;
}

/* A name near one that is there but unknown, among those that a schema lists. */
static const char *near_name(const struct mos_judge *j, const struct mos_node *schema,
                             const char *name) {
    const struct mos_node *list = mos_node_get(schema, "properties");
    const char **names = mos_alloc_array(j->arena, list ? list->count : 0, sizeof *names);
    for (size_t i = 0; list && i < list->count; i++)
        names[i] = list->items[i]->key;
    return list ? mos_near(name, names, list->count) : NULL;
}

/* "additionalProperties", or "unevaluatedProperties": of those not yet looked at. */
static enum mos_verdict judge_rest(struct mos_judge *j, struct mos_schema whole,
                                   const struct mos_node *k, struct scope *sc, const bool *done,
                                   bool tell) {
    enum mos_verdict v = MOS_GOOD;
    if (mos_schema_is(k, "true"))
        return v;
    for (size_t i = 0; i < sc->count; i++) {
        const struct member *m = &sc->members[i];
        if (done[i] || (m->property ? always_allowed(m->name) : strncmp(m->name, "__", 2) == 0))
            continue;
        if (!mos_schema_is(k, "false")) {
            sc->seen[i] = true;
            v = mos_verdict_and(
                v, judge_member(j, (struct mos_schema){whole.file, k}, sc->node, m, tell));
            continue;
        }
        v = MOS_BAD;
        if (!tell)
            return v;
        const char *near = near_name(j, whole.node, m->name);
        struct mos_binding_fault *f =
            fault(j, m->child ? m->child : sc->node, m->property,
                  (struct mos_schema){whole.file, k}, "is not known to its binding");
        f->remedy = near ? mos_printf(j->arena, "Write %s, or remove it.", near)
                         : "Correct its name, or remove it.";
    }
    return v;
}

/* ---- words about a whole node ---- */

static enum mos_verdict judge_required(struct mos_judge *j, struct mos_schema s,
                                       const struct scope *sc, bool tell) {
    enum mos_verdict v = MOS_GOOD;
    for (size_t i = 0; i < s.node->count; i++) {
        const struct mos_node *k = s.node->items[i];
        bool spread = strcmp(k->text, "interrupts") == 0 && member_of(sc, "interrupts-extended");
        if (k->kind != MOS_NODE_SCALAR || *k->text == '$' || member_of(sc, k->text) || spread)
            continue;
        v = MOS_BAD;
        if (!tell)
            return v;
        struct mos_binding_fault *f =
            fault(j, sc->node, NULL, (struct mos_schema){s.file, k}, "is needed, and not there");
        const struct mos_node *properties = mos_node_get(s.file->root, "properties");
        f->missing = k->text;
        f->description = properties ? description_of(mos_node_get(properties, k->text)) : NULL;
    }
    return v;
}

/* "a, or b and c": what the branches of a choice ask for; NULL: not only names. */
static const char *wanted_of(const struct mos_judge *j, const struct mos_node *choice) {
    struct mos_buf b = {.arena = j->arena};
    for (size_t i = 0; i < choice->count; i++) {
        const struct mos_node *list = choice->items[i]->kind == MOS_NODE_MAP
                                          ? mos_node_get(choice->items[i], "required")
                                          : NULL;
        if (!list || list->kind != MOS_NODE_LIST || choice->items[i]->count > 1)
            return NULL;
        mos_buf_text(&b, i ? ", or " : "");
        for (size_t k = 0; k < list->count; k++)
            mos_buf_printf(&b, "%s%s", k ? " and " : "", list->items[k]->text);
    }
    return mos_buf_string(&b);
}

static enum mos_verdict judge_choice(struct mos_judge *j, struct mos_schema s, struct scope *sc,
                                     bool tell) {
    size_t good = 0, open = 0;
    bool one = strcmp(s.node->key, "oneOf") == 0;
    for (size_t i = 0; i < s.node->count; i++) {
        struct scope part = fresh(j, sc);
        enum mos_verdict v =
            judge_node(j, (struct mos_schema){s.file, s.node->items[i]}, &part, false);
        good += v == MOS_GOOD;
        open += v == MOS_OPEN;
        if (v != MOS_BAD)
            add_seen(sc, &part);
    }
    if (open) {
        j->unknown += tell;
        sc->open = true;
        return good && !one ? MOS_GOOD : MOS_OPEN;
    }
    if (good == 1 || (good && !one))
        return MOS_GOOD;
    const char *wanted = wanted_of(j, s.node);
    if (tell)
        fault(j, sc->node, NULL, s,
              wanted && good ? mos_printf(j->arena, "has more than one of: %s", wanted)
              : wanted       ? mos_printf(j->arena, "needs %s", wanted)
              : good         ? "fits several forms that exclude each other"
                             : "fits none of the forms that its binding allows");
    return MOS_BAD;
}

static enum mos_verdict judge_if(struct mos_judge *j, struct mos_schema s, const struct mos_node *k,
                                 struct scope *sc, bool tell) {
    struct scope part = fresh(j, sc);
    enum mos_verdict v = judge_node(j, (struct mos_schema){s.file, k}, &part, false);
    if (v == MOS_OPEN) {
        j->unknown += tell;
        sc->open = true;
        return v;
    }
    if (v == MOS_GOOD)
        add_seen(sc, &part);
    const struct mos_node *next = mos_node_get(s.node, v == MOS_GOOD ? "then" : "else");
    return next ? judge_node(j, (struct mos_schema){s.file, next}, sc, tell) : MOS_GOOD;
}

static enum mos_verdict judge_dependencies(struct mos_judge *j, struct mos_schema s,
                                           struct scope *sc, bool tell) {
    enum mos_verdict v = MOS_GOOD;
    for (size_t i = 0; i < s.node->count; i++) {
        const struct mos_node *k = s.node->items[i];
        struct mos_schema below = {s.file, k};
        if (member_of(sc, k->key))
            v = mos_verdict_and(v, k->kind == MOS_NODE_LIST ? judge_required(j, below, sc, tell)
                                                            : judge_node(j, below, sc, tell));
    }
    return v;
}

static enum mos_verdict judge_ref(struct mos_judge *j, struct mos_schema s,
                                  const struct mos_node *k, struct scope *sc, bool tell) {
    const char *type;
    struct mos_schema to = mos_bindings_refer(j->b, s.file, k->text, &type);
    if (to.node)
        return judge_node(j, to, sc, tell);
    j->unknown += tell;
    sc->open = true;
    return MOS_OPEN;
}

static enum mos_verdict judge_word(struct mos_judge *j, struct mos_schema s,
                                   const struct mos_node *k, struct scope *sc, bool *own,
                                   bool tell) {
    const char *key = k->key;
    struct mos_schema at = {s.file, k};
    enum mos_verdict v = MOS_GOOD;
    if (mos_schema_is_talk(key) || strcmp(key, "additionalProperties") == 0 ||
        strcmp(key, "unevaluatedProperties") == 0)
        return v;
    if (strcmp(key, "$ref") == 0 && k->kind == MOS_NODE_SCALAR)
        return judge_ref(j, s, k, sc, tell);
    if (strcmp(key, "if") == 0)
        return judge_if(j, s, k, sc, tell);
    if (k->kind == MOS_NODE_SCALAR) {
        j->unknown += tell;
        return MOS_OPEN;
    }
    if (strcmp(key, "properties") == 0)
        return judge_named(j, at, sc, own, tell);
    if (strcmp(key, "patternProperties") == 0)
        return judge_patterns(j, at, sc, own, tell);
    if (strcmp(key, "required") == 0)
        return judge_required(j, at, sc, tell);
    if (strcmp(key, "dependencies") == 0 || strcmp(key, "dependentRequired") == 0 ||
        strcmp(key, "dependentSchemas") == 0)
        return judge_dependencies(j, at, sc, tell);
    if (strcmp(key, "oneOf") == 0 || strcmp(key, "anyOf") == 0)
        return judge_choice(j, at, sc, tell);
    if (strcmp(key, "allOf") == 0) {
        for (size_t i = 0; i < k->count; i++)
            v = mos_verdict_and(v,
                                judge_node(j, (struct mos_schema){s.file, k->items[i]}, sc, tell));
        return v;
    }
    if (strcmp(key, "not") == 0) {
        struct scope part = fresh(j, sc);
        v = judge_node(j, at, &part, false);
        if (v == MOS_GOOD && tell) {
            const struct mos_node *list = mos_node_get(k, "required");
            const char *name =
                list && list->kind == MOS_NODE_LIST && list->count ? list->items[0]->text : NULL;
            const struct member *m = name ? member_of(sc, name) : NULL;
            fault(j, sc->node, m ? m->property : NULL, at,
                  m ? "is not allowed here" : "has a form that its binding excludes");
        }
        j->unknown += v == MOS_OPEN && tell;
        return v == MOS_OPEN ? v : v == MOS_GOOD ? MOS_BAD : MOS_GOOD;
    }
    j->unknown += tell;
    return MOS_OPEN;
}

static enum mos_verdict judge_node(struct mos_judge *j, struct mos_schema s, struct scope *sc,
                                   bool tell) {
    enum mos_verdict v = MOS_GOOD;
    j->steps += 1 + sc->count / 64; /* it is gone through */
    if (!s.node || j->steps > MOS_JUDGE_STEPS || j->depth > MOS_JUDGE_DEPTH) {
        j->unknown += tell;
        sc->open = true;
        return MOS_OPEN;
    }
    if (s.node->kind == MOS_NODE_SCALAR) {
        if (!mos_schema_is(s.node, "false"))
            return MOS_GOOD;
        if (tell)
            fault(j, sc->node, NULL, s, "is not allowed here");
        return MOS_BAD;
    }
    if (s.node->kind != MOS_NODE_MAP)
        return MOS_OPEN;
    j->depth++;
    bool *own = mos_alloc_array(j->arena, sc->count, sizeof *own);
    for (size_t i = 0; i < s.node->count && (tell || v != MOS_BAD); i++) {
        enum mos_verdict one = judge_word(j, s, s.node->items[i], sc, own, tell);
        v = mos_verdict_and(v, one);
    }
    const struct mos_node *more = mos_node_get(s.node, "additionalProperties");
    if (more && (tell || v != MOS_BAD))
        v = mos_verdict_and(v, judge_rest(j, s, more, sc, own, tell));
    more = mos_node_get(s.node, "unevaluatedProperties");
    if (more && sc->open)
        v = mos_verdict_and(v, mos_schema_is(more, "true") ? MOS_GOOD : MOS_OPEN);
    else if (more && (tell || v != MOS_BAD))
        v = mos_verdict_and(v, judge_rest(j, s, more, sc, sc->seen, tell));
    j->depth--;
    return v;
}

bool mos_judge_fits(struct mos_bindings *b, struct mos_schema s, const struct mos_dt_node *node) {
    static const struct mos_dt_phandles none;
    struct mos_arena *arena = mos_arena_child(b->quiet.arena);
    struct mos_judge j = {
        .b = b, .arena = arena, .all = &none, .known_compatible = true, .top = node};
    struct scope sc = scope_of(&j, node);
    bool fits = judge_node(&j, s, &sc, false) == MOS_GOOD;
    mos_arena_free(arena);
    return fits;
}

struct mos_vec mos_bindings_judge(struct mos_bindings *b, const struct mos_binding *file,
                                  const struct mos_dt_node *node, bool known_compatible,
                                  const struct mos_dt_phandles *all, struct mos_arena *arena,
                                  size_t *unknown) {
    struct mos_judge j = {.b = b,
                          .arena = arena,
                          .all = all,
                          .faults = mos_vec_make(arena, sizeof(struct mos_binding_fault)),
                          .known_compatible = known_compatible,
                          .top = node};
    struct scope sc = scope_of(&j, node);
    judge_node(&j, (struct mos_schema){file, file->root}, &sc, true);
    *unknown += j.unknown;
    return j.faults;
}
