#include "kconfig/build-inside.h"

#include "base/text.h"

#include <string.h>

enum { DEEPEST = 24, MOST_STEPS = 4096 };

struct evaluation {
    const struct mos_kc_build *b;
    struct mos_arena *arena;
    enum mos_tri (*value)(void *self, const char *symbol);
    void *self;
    unsigned steps; /* objects that lead to each other in circles have no end */
};

static enum mos_tri least(enum mos_tri a, enum mos_tri b) {
    return a < b ? a : b;
}

static void lower(enum mos_kc_certainty *c, enum mos_kc_certainty to) {
    *c = *c < to ? *c : to;
}

/* "A=y !B" with the values there are; *c becomes less where not all of it is understood. */
static enum mos_tri guard_value(const struct evaluation *e, const char *p,
                                enum mos_kc_certainty *c) {
    enum mos_tri most = MOS_TRI_Y;
    for (size_t n; p && *p; p += n + strspn(p + n, " ")) {
        n = strcspn(p, " ");
        bool not_so = *p == '!';
        const char *name = p + not_so, *equals = memchr(p, '=', n);
        size_t length = (equals ? (size_t)(equals - p) : n) - not_so;
        if (*p == '?') {
            lower(c, MOS_KC_OPEN);
        } else if (n == 1 && *p == 'm') {
            most = MOS_TRI_M;
        } else {
            enum mos_tri v = e->value(e->self, mos_strndup(e->arena, name, length));
            bool so = equals ? v == (equals[1] == 'y' ? MOS_TRI_Y : MOS_TRI_M) : v != MOS_TRI_N;
            if (so == not_so)
                return MOS_TRI_N;
        }
    }
    return most;
}

static enum mos_tri rule_value(const struct evaluation *e, const struct mos_kc_rule *x,
                               enum mos_kc_certainty *c) {
    enum mos_tri guard = guard_value(e, x->guard, c);
    return x->symbol && guard ? least(guard, e->value(e->self, x->symbol)) : guard;
}

/* An object in folders of which each is gone into or not; what is built in does not get out of one
 * that is only gone into for modules. */
static enum mos_tri within_folders(const struct evaluation *e, const char *object, enum mos_tri own,
                                   enum mos_kc_certainty *c) {
    const struct mos_kc_rule *x;
    for (const char *slash = strchr(object, '/'); slash && own; slash = strchr(slash + 1, '/')) {
        const char *path = mos_strndup(e->arena, object, (size_t)(slash + 1 - object));
        size_t count = mos_kc_build_rules(e->b, path, &x);
        enum mos_tri folder = count ? MOS_TRI_N : MOS_TRI_Y;
        const char *below = strncmp(path, "arch/", 5) == 0 ? strchr(path + 5, '/') : path;
        if (!count && below && below[1])
            lower(c, MOS_KC_LIKELY); /* who goes into it is not said where we look */
        for (size_t i = 0; i < count; i++) {
            enum mos_tri one = rule_value(e, &x[i], c);
            folder = one > folder ? one : folder;
        }
        own = folder == MOS_TRI_M && own == MOS_TRI_Y ? MOS_TRI_N : least(own, folder);
    }
    return own;
}

static enum mos_tri evaluate(struct evaluation *e, const char *object, unsigned depth,
                             enum mos_kc_certainty *certainty) {
    const struct mos_kc_rule *x;
    size_t count =
        depth < DEEPEST && e->steps++ < MOST_STEPS ? mos_kc_build_rules(e->b, object, &x) : 0;
    enum mos_tri best = MOS_TRI_N;
    enum mos_kc_certainty all = MOS_KC_SURE;
    bool named = false;
    for (size_t i = 0; i < count; i++) {
        enum mos_kc_certainty of = MOS_KC_SURE;
        enum mos_tri one = rule_value(e, &x[i], &all);
        if (one && x[i].of)
            one = least(one, evaluate(e, x[i].of, depth + 1, &of));
        else if (one)
            one = within_folders(e, object, one, &all);
        if (of != MOS_KC_UNNAMED) {
            named = true;
            lower(&all, of);
        }
        best = one > best ? one : best;
    }
    *certainty = named ? all : MOS_KC_UNNAMED;
    return best;
}

enum mos_tri mos_kc_build_value(const struct mos_kc_build *b, struct mos_arena *arena,
                                const char *object,
                                enum mos_tri (*value)(void *self, const char *symbol), void *self,
                                enum mos_kc_certainty *certainty) {
    struct evaluation e = {b, arena, value, self, 0};
    return evaluate(&e, object, 0, certainty);
}

/* ---- which symbols ---- */

static void push_once(struct mos_vec *v, const char *text) {
    for (size_t i = 0; i < v->count; i++)
        if (strcmp(mos_vec_pointer(v, i), text) == 0)
            return;
    mos_vec_push_pointer(v, text);
}

/* The symbols that a rule wants on; what it wants off is not among them. */
static void push_symbols(struct mos_arena *arena, const struct mos_kc_rule *x,
                         struct mos_vec *out) {
    if (x->symbol)
        push_once(out, x->symbol);
    for (const char *p = x->guard; p && *p; p += strspn(p, " ")) {
        size_t n = strcspn(p, " "), length = strcspn(p, " =");
        if (*p != '!' && *p != '?' && !(n == 1 && *p == 'm'))
            push_once(out, mos_strndup(arena, p, length));
        p += n;
    }
}

/* Of several rules the one that does most; NULL: there is none. */
static const struct mos_kc_rule *best_rule(const struct evaluation *e, const char *object) {
    const struct mos_kc_rule *x, *best = NULL;
    size_t count = mos_kc_build_rules(e->b, object, &x);
    enum mos_tri most = MOS_TRI_N;
    for (size_t i = 0; i < count; i++) {
        enum mos_kc_certainty any = MOS_KC_SURE;
        enum mos_tri one = e->value ? rule_value(e, &x[i], &any) : MOS_TRI_N;
        if (best && one <= most)
            continue;
        best = &x[i];
        most = one;
    }
    return best;
}

bool mos_kc_build_symbols(const struct mos_kc_build *b, struct mos_arena *arena, const char *object,
                          enum mos_tri (*value)(void *self, const char *symbol), void *self,
                          struct mos_vec *out, size_t *own, const char **module) {
    const struct evaluation e = {b, arena, value, self, 0};
    const struct mos_kc_rule *x;
    *module = object;
    *own = 0;
    for (unsigned depth = 0; depth < DEEPEST; depth++) {
        if (!(x = best_rule(&e, object)))
            return false;
        push_symbols(arena, x, out);
        if (!x->of)
            break;
        *module = object = x->of;
    }
    *own = out->count;
    for (const char *slash = strrchr(object, '/'); slash && slash > object;) {
        const char *folder = mos_strndup(arena, object, (size_t)(slash + 1 - object));
        if ((x = best_rule(&e, folder)))
            push_symbols(arena, x, out);
        for (slash--; slash > object && *slash != '/';)
            slash--;
        if (*slash != '/')
            break;
    }
    return true;
}

void mos_kc_build_objects(const struct mos_kc_build *b, const char *symbol, struct mos_vec *out) {
    for (size_t i = 0; i < b->rules.count; i++) {
        const struct mos_kc_rule *x = mos_vec_at(&b->rules, i);
        if (!x->of && x->symbol && strcmp(x->symbol, symbol) == 0 && !mos_text_ends(x->object, "/"))
            push_once(out, x->object);
    }
}
