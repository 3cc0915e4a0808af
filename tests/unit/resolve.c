/* Resolving against a small model of its own: random traits, variants, removals and moves. */
#include "support.h"

#include "api/run.h"
#include "model/merge.h"

#include <stdlib.h>
#include <string.h>

enum { TRAITS = 6, VARIANTS = 2, NAMES = 8, LAYERS = TRAITS + 1 + VARIANTS, BOARD = TRAITS };

/* What one origin does with one variable. */
enum act { NOTHING, SET, REMOVE, REDEFINE };
struct deed {
    enum act act;
    int value;
    int anchor; /* name it is moved beside, -1: not moved */
    bool before;
};

/* A random workspace: origins 0..5 are traits, 6 the board, 7 and 8 variants. */
struct world {
    bool takes[LAYERS][TRAITS];
    int order[LAYERS][TRAITS], order_count[LAYERS];
    struct deed deeds[LAYERS][NAMES];
    bool chosen[VARIANTS];
};

static void make_world(struct world *w, uint64_t *state) {
    memset(w, 0, sizeof *w);
    for (int l = 0; l < LAYERS; l++) {
        int most = l < TRAITS ? l : TRAITS;
        for (int k = 0; k < 3 && most; k++) {
            int t = (int)random_below(state, (uint64_t)most);
            if (random_below(state, 3) || w->takes[l][t])
                continue;
            w->takes[l][t] = true;
            w->order[l][w->order_count[l]++] = t;
        }
        for (int n = 0; n < NAMES; n++) {
            struct deed *d = &w->deeds[l][n];
            static const enum act acts[] = {NOTHING, NOTHING, NOTHING, SET,
                                            SET,     SET,     REMOVE,  REDEFINE};
            d->act = acts[random_below(state, 8)];
            d->value = (int)random_below(state, 3);
            d->anchor = -1;
            if (n && random_below(state, 4) == 0) { /* only to earlier names: never in a circle */
                d->anchor = (int)random_below(state, (uint64_t)n);
                d->before = random_below(state, 2);
            }
        }
    }
    for (int v = 0; v < VARIANTS; v++)
        w->chosen[v] = random_below(state, 2);
}

/* ---- as files ---- */

static void put_layer(struct mos_buf *b, const struct world *w, int l, const char *indent) {
    mos_buf_printf(b, "%straits: [", indent);
    for (int i = 0; i < w->order_count[l]; i++)
        mos_buf_printf(b, "%st%d", i ? ", " : "", w->order[l][i]);
    mos_buf_printf(b, "]\n%sloader: {environments: {main: {values: {", indent);
    bool any = false;
    for (int n = 0; n < NAMES; n++) {
        const struct deed *d = &w->deeds[l][n];
        if (d->act == NOTHING)
            continue;
        if (d->act == REMOVE || d->act == REDEFINE)
            mos_buf_printf(b, "%s~%c: ", any ? ", " : "", 'a' + n);
        any = true;
        if (d->act == REMOVE)
            continue;
        mos_buf_printf(b, "%s%c: {value: v%d",
                       d->act == REDEFINE              ? ", "
                       : b->data[b->length - 1] == '{' ? ""
                                                       : ", ",
                       'a' + n, d->value);
        if (d->anchor >= 0)
            mos_buf_printf(b, ", %s: %c", d->before ? "before" : "after", 'a' + d->anchor);
        mos_buf_text(b, "}");
    }
    mos_buf_text(b, "}}}}\n");
}

static void write_world(struct core *c, const struct world *w, const char *folder) {
    write_text(path_in(folder, "mosaicum.yaml"), "mosaicum: 1\nworkspace: model\n");
    for (int l = 0; l < TRAITS; l++) {
        struct mos_buf b = {.arena = c->ctx.arena};
        mos_buf_printf(&b, "mosaicum: 1\ntrait: t%d\n", l);
        put_layer(&b, w, l, "");
        write_text(path_in(folder, "traits/t%d.yaml", l), mos_buf_string(&b));
    }
    struct mos_buf b = {.arena = c->ctx.arena};
    mos_buf_text(&b, "mosaicum: 1\nboard: b\n");
    put_layer(&b, w, BOARD, "");
    mos_buf_text(&b, "variants:\n");
    for (int v = 0; v < VARIANTS; v++) {
        mos_buf_printf(&b, "  v%d:\n    axis: x%d\n", v, v);
        put_layer(&b, w, BOARD + 1 + v, "    ");
    }
    write_text(path_in(folder, "boards/b.yaml"), mos_buf_string(&b));
}

/* ---- the model ---- */

struct item {
    int name, value, anchor, setters[LAYERS], values[LAYERS], setter_count;
    int anchor_layers[LAYERS], anchor_values[LAYERS], anchor_count;
    bool before;
    int before_layers[LAYERS], before_values[LAYERS], before_count;
};
struct model {
    int origins[LAYERS], layer_count;
    bool above[LAYERS][LAYERS]; /* may override */
    struct item items[NAMES];
    int item_count;
    int lacking; /* removals and moves of what is not there */
    int clashes;
};

static void flatten(const struct world *w, struct model *m, int origin, bool *seen) {
    for (int i = 0; i < w->order_count[origin]; i++) {
        int t = w->order[origin][i];
        if (seen[t])
            continue;
        seen[t] = true;
        flatten(w, m, t, seen);
        m->origins[m->layer_count++] = t;
    }
}

static void rank(const struct world *w, struct model *m, const bool *before_board) {
    for (int a = 0; a < LAYERS; a++)
        for (int b = 0; b < TRAITS; b++)
            m->above[a][b] = w->takes[a][b];
    for (int i = 0; i < m->layer_count; i++) { /* all that variants bring stands over the board */
        int l = m->origins[i];
        if (l > BOARD || (l < BOARD && !before_board[l]))
            m->above[l][BOARD] = true;
    }
    for (int k = 0; k < LAYERS; k++)
        for (int a = 0; a < LAYERS; a++)
            for (int b = 0; b < LAYERS; b++)
                m->above[a][b] |= m->above[a][k] && m->above[k][b];
}

static void drop(struct model *m, int at) {
    memmove(m->items + at, m->items + at + 1, (size_t)(m->item_count - at - 1) * sizeof *m->items);
    m->item_count--;
}

static int find_item(const struct model *m, int name) {
    for (int i = 0; i < m->item_count; i++)
        if (m->items[i].name == name)
            return i;
    return -1;
}

static void apply(const struct world *w, struct model *m, int origin) {
    for (int n = 0; n < NAMES; n++) { /* removals first */
        enum act act = w->deeds[origin][n].act;
        int at = find_item(m, n);
        if (act != REMOVE && act != REDEFINE)
            continue;
        if (at >= 0)
            drop(m, at);
        else
            m->lacking++;
    }
    for (int n = 0; n < NAMES; n++) {
        const struct deed *d = &w->deeds[origin][n];
        if (d->act != SET && d->act != REDEFINE)
            continue;
        int at = find_item(m, n);
        if (at < 0) {
            at = m->item_count++;
            m->items[at] = (struct item){.name = n, .anchor = -1};
        }
        struct item *i = &m->items[at];
        i->value = d->value;
        i->setters[i->setter_count] = origin;
        i->values[i->setter_count++] = d->value;
        if (d->anchor >= 0 && !d->before) {
            i->anchor_layers[i->anchor_count] = origin;
            i->anchor_values[i->anchor_count++] = d->anchor;
        } else if (d->anchor >= 0) {
            i->before_layers[i->before_count] = origin;
            i->before_values[i->before_count++] = d->anchor;
        }
    }
}

/* Setters that no other setter stands over must agree. */
static bool clashes(const struct model *m, const int *origins, const int *values, int count) {
    int kept = -1;
    for (int i = 0; i < count; i++) {
        bool covered = false;
        for (int k = i + 1; k < count; k++)
            covered |= m->above[origins[k]][origins[i]];
        if (covered)
            continue;
        if (kept >= 0 && values[i] != values[kept])
            return true;
        kept = i;
    }
    return false;
}

/* The place of an item as a key: where it hangs, step by step from the root. */
struct place {
    int steps[NAMES + 2][2], count;
};

static struct place place_of(const struct model *m, int at) {
    int chain[NAMES + 1], n = 0;
    for (int i = at; i >= 0; i = m->items[i].anchor < 0 ? -1 : find_item(m, m->items[i].anchor))
        chain[n++] = i;
    struct place p = {.count = 0};
    for (int k = n - 1; k >= 0; k--) {
        const struct item *i = &m->items[chain[k]];
        bool root = k == n - 1;
        p.steps[p.count][0] = root ? 1 : i->before ? 0 : 2;
        p.steps[p.count++][1] = chain[k];
    }
    p.steps[p.count][0] = 1; /* itself, between what stands before and after it */
    p.steps[p.count++][1] = 0;
    return p;
}

static const struct model *sorted_model;

static int by_place(const void *a, const void *b) {
    struct place x = place_of(sorted_model, *(const int *)a),
                 y = place_of(sorted_model, *(const int *)b);
    for (int i = 0; i < x.count && i < y.count; i++)
        for (int k = 0; k < 2; k++)
            if (x.steps[i][k] != y.steps[i][k])
                return x.steps[i][k] - y.steps[i][k];
    return x.count - y.count;
}

static void run_model(const struct world *w, struct model *m, int order[NAMES]) {
    bool seen[TRAITS] = {false}, before_board[TRAITS];
    memset(m, 0, sizeof *m);
    flatten(w, m, BOARD, seen);
    memcpy(before_board, seen, sizeof seen);
    m->origins[m->layer_count++] = BOARD;
    for (int v = 0; v < VARIANTS; v++) {
        if (!w->chosen[v])
            continue;
        flatten(w, m, BOARD + 1 + v, seen);
        m->origins[m->layer_count++] = BOARD + 1 + v;
    }
    rank(w, m, before_board);
    for (int i = 0; i < m->layer_count; i++)
        apply(w, m, m->origins[i]);
    for (int i = 0; i < m->item_count; i++) {
        struct item *x = &m->items[i];
        m->clashes += clashes(m, x->setters, x->values, x->setter_count);
        /* after: wins over before: when different origins state both */
        x->before = !x->anchor_count;
        x->anchor = x->anchor_count   ? x->anchor_values[x->anchor_count - 1]
                    : x->before_count ? x->before_values[x->before_count - 1]
                                      : -1;
        if (x->anchor >= 0 && find_item(m, x->anchor) < 0) {
            x->anchor = -1;
            m->lacking++;
        }
    }
    for (int i = 0; i < m->item_count; i++)
        order[i] = i;
    sorted_model = m;
    qsort(order, (size_t)m->item_count, sizeof *order, by_place);
}

/* ---- comparing ---- */

static struct mos_board *resolve(struct core *c, const char *folder, const struct world *w,
                                 const char *board) {
    char selector[32];
    snprintf(selector, sizeof selector, "%s%s%s", board, w && w->chosen[0] ? "+v0" : "",
             w && w->chosen[1] ? "+v1" : "");
    struct mos_workspace *ws = mos_workspace_load(&c->ctx, folder);
    struct mos_vec found = mos_vec_make(c->ctx.arena, sizeof(struct mos_selection));
    CU_ASSERT_TRUE_FATAL(mos_workspace_select(&c->ctx, ws, selector, NULL, &found));
    CU_ASSERT_EQUAL_FATAL(found.count, 1);
    return mos_board_resolve(&c->ctx, ws, mos_vec_at(&found, 0));
}

static bool same_as_model(const struct mos_board *b, const struct model *m, const int *order) {
    const struct mos_environment *e = mos_named_get(&b->loader->environments, "main");
    if ((int)e->values.count != m->item_count)
        return false;
    for (int i = 0; i < m->item_count; i++) {
        const struct mos_variable *v = e->values.items[i];
        const struct item *x = &m->items[order[i]];
        if (v->r.name[0] != 'a' + x->name || v->value->text[1] != '0' + x->value)
            return false;
    }
    return true;
}

static void resolving_equals_the_model(void) {
    enum { WORLDS = 400 };
    uint64_t state = 20261123;
    unsigned with_clash = 0, with_moves = 0;
    for (int i = 0; i < WORLDS; i++) {
        struct core c, again;
        struct world w;
        struct model m;
        int order[NAMES];
        const char *folder = test_folder("world");
        core_start(&c);
        core_start(&again);
        make_world(&w, &state);
        write_world(&c, &w, folder);
        run_model(&w, &m, order);
        struct mos_board *b = resolve(&c, folder, &w, "b");
        size_t clash_count = count_rule(&c, MOS_RULE_BOARD_TRAIT_CLASH);
        bool good = same_as_model(b, &m, order) &&
                    count_rule(&c, MOS_RULE_BOARD_REFERENCE) >= (size_t)m.lacking &&
                    clash_count >= (size_t)m.clashes;
        if (!good)
            fprintf(stderr, "\nworld %d in %s: %zu lacking, %d; %zu clashes, %d\n", i, folder,
                    count_rule(&c, MOS_RULE_BOARD_REFERENCE), m.lacking, clash_count, m.clashes);
        CU_ASSERT_FATAL(good);
        CU_ASSERT_EQUAL(clash_count > 0 || m.clashes > 0, clash_count > 0);
        with_clash += m.clashes != 0;
        with_moves += m.item_count && order[0] != 0;
        /* the same again, and the same from what is shown of it */
        const char *text = show_resolved(c.ctx.arena, b);
        CU_ASSERT_STRING_EQUAL(text,
                               show_resolved(again.ctx.arena, resolve(&again, folder, &w, "b")));
        remove_folder(path_in(folder, "traits"));
        write_text(path_in(folder, "boards/b.yaml"), text);
        struct core third;
        core_start(&third);
        CU_ASSERT_STRING_EQUAL(text,
                               show_resolved(third.ctx.arena, resolve(&third, folder, NULL, "b")));
        core_end(&third);
        core_end(&again);
        core_end(&c);
        remove_folder(folder);
    }
    CU_ASSERT(with_clash > WORLDS / 10 && with_moves > WORLDS / 20);
}

/* Each value knows what it replaced, latest first. */
static void values_keep_their_trail(void) {
    struct core c;
    const char *folder = test_folder("trail");
    core_start(&c);
    write_text(path_in(folder, "mosaicum.yaml"), "mosaicum: 1\nworkspace: model\n");
    write_text(path_in(folder, "traits/chip.yaml"),
               "mosaicum: 1\ntrait: chip\nhardware: {cores: 1}\n");
    write_text(path_in(folder, "traits/site.yaml"),
               "mosaicum: 1\ntrait: site\ntraits: [chip]\nhardware: {cores: 2}\n");
    write_text(path_in(folder, "boards/b.yaml"),
               "mosaicum: 1\nboard: b\ntraits: [site]\nhardware: {cores: 3}\n");
    struct mos_board *b = resolve(&c, folder, NULL, "b");
    const struct mos_place *p = &b->hardware->cores->place;
    static const char *const files[] = {"boards/b.yaml", "traits/site.yaml", "traits/chip.yaml"};
    CU_ASSERT_EQUAL(b->hardware->cores->number, 3);
    for (size_t i = 0; i < 3; i++, p = p->replaced) {
        CU_ASSERT_PTR_NOT_NULL_FATAL(p);
        CU_ASSERT_STRING_EQUAL(p->source->shown_path, files[i]);
    }
    CU_ASSERT_PTR_NULL(p);
    CU_ASSERT_EQUAL(c.ctx.findings.items.count, 0);
    core_end(&c);
}

static size_t selected(struct core *c, struct mos_workspace *w, const char *selector) {
    struct mos_vec found = mos_vec_make(c->ctx.arena, sizeof(struct mos_selection));
    c->error = (struct mos_error){0};
    return mos_workspace_select(&c->ctx, w, selector, NULL, &found) ? found.count : 0;
}

static void selectors_choose(void) {
    static const struct {
        const char *selector;
        size_t count;
    } cases[] = {{"curlew", 1},
                 {"curlew+bench", 1},
                 {"curlew+ram-1g+field", 1},
                 {"*", 3},
                 {"*+field", 3},
                 {"*+*", 7},
                 {"*+*+*", 2},
                 {"c*+?ield", 1},
                 {"curlew+*+ram-1g", 2},
                 {"curlew+bench+field", 0},
                 {"curlew+none", 0},
                 {"curlew+", 0},
                 {"+field", 0},
                 {"heron", 0},
                 {"h*", 0}};
    struct core c;
    core_start(&c);
    struct mos_workspace *w =
        mos_workspace_load(&c.ctx, keep(path_in(MOSAICUM_SOURCE, "demo/saltmarsh")));
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        size_t n = selected(&c, w, cases[i].selector);
        if (n != cases[i].count)
            fprintf(stderr, "\n%s: %zu\n", cases[i].selector, n);
        CU_ASSERT_EQUAL(n, cases[i].count);
        CU_ASSERT_EQUAL(c.error.kind, cases[i].count ? MOS_ERROR_NONE : MOS_ERROR_USAGE);
    }
    c.error.kind = MOS_ERROR_NONE;
    CU_ASSERT_PTR_NULL(mos_workspace_board(&c.ctx, w, "godwit"));
    CU_ASSERT(c.error.kind == MOS_ERROR_USAGE &&
              strcmp(c.error.message, "There is no board godwit") == 0);
    c.error.kind = MOS_ERROR_NONE;
    struct mos_vec all = mos_vec_make(c.ctx.arena, sizeof(struct mos_selection));
    CU_ASSERT_TRUE(mos_workspace_select_all(&c.ctx, w, true, &all));
    CU_ASSERT_EQUAL(all.count, 12);
    core_end(&c);
}

SUITE(resolve_suite, {"resolving equals a model", resolving_equals_the_model},
      {"trails", values_keep_their_trail}, {"selectors", selectors_choose});
