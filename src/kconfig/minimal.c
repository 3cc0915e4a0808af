/* The fewest settings that give a configuration. */
#include "kconfig/lack.h"

#include <string.h>

static const struct mos_setting *setting_of(struct mos_kc_config *c,
                                            const struct mos_kc_symbol *s) {
    struct mos_setting *out = mos_alloc(c->arena, sizeof *out);
    const char *text = mos_kc_text(c, s);
    *out = (struct mos_setting){.symbol = mos_printf(c->arena, "CONFIG_%s", s->name),
                                .value = s->type == MOS_KC_STRING ? mos_kc_quoted(c, text) : text};
    return out;
}

static bool can_be_asked(const struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    const struct mos_kc_value *v = &c->values[s->index];
    return s->entry && !s->is_choice && s->type != MOS_KC_UNKNOWN && v->written &&
           v->visible != MOS_TRI_N && !s->from_environment;
}

/* Of a choice that is answered only the member that is on says anything. */
static bool is_told_by_its_choice(const struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    const struct mos_kc_value *v = &c->values[s->index];
    return s->choice && v->visible == MOS_TRI_Y && v->tri != MOS_TRI_Y;
}

/* How many symbols come out otherwise with what was said so far; what can be asked of them is
 * pushed to `more`, where that is given. */
static size_t missing(struct mos_kc_config *whole, const struct mos_vec *said,
                      struct mos_vec *more) {
    const struct mos_kc_tree *tree = whole->tree;
    const struct mos_kc_requests all = {said->items, said->count};
    struct mos_arena *aside = mos_arena_child(whole->arena);
    struct mos_kc_config *c = mos_kc_with(aside, tree, &all, NULL, 0);
    size_t differ = 0;
    for (size_t i = 0; i < tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&tree->all, i);
        if (!mos_kc_differs(whole, c, s) && whole->values[i].written == c->values[i].written)
            continue;
        differ++;
        if (more && can_be_asked(whole, s) && !is_told_by_its_choice(whole, s))
            mos_vec_push_pointer(more, setting_of(whole, s));
    }
    mos_arena_free(aside);
    return differ;
}

/* Leaves out again what was added behind `first` and is not needed. */
static void drop_needless(struct mos_kc_config *whole, struct mos_vec *said, size_t first) {
    const struct mos_setting **items = said->items;
    for (size_t i = said->count; i-- > first;) {
        const struct mos_setting *one = items[i];
        memmove(&items[i], &items[i + 1], (--said->count - i) * sizeof *items);
        if (!missing(whole, said, NULL))
            continue;
        memmove(&items[i + 1], &items[i], (said->count++ - i) * sizeof *items);
        items[i] = one;
    }
}

size_t mos_kc_minimal(struct mos_kc_config *whole, struct mos_vec *said) {
    enum { MOST_ROUNDS = 8 };
    const struct mos_kc_tree *tree = whole->tree;
    for (size_t i = 0; i < tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&tree->all, i);
        if (can_be_asked(whole, s) && !is_told_by_its_choice(whole, s) &&
            !mos_kc_is_asked_in_vain(whole, s))
            mos_vec_push_pointer(said, setting_of(whole, s));
    }
    size_t first = said->count; /* none of these can be left out */
    for (unsigned round = 0; round < MOST_ROUNDS; round++) {
        struct mos_vec more = mos_vec_make(whole->arena, sizeof(void *));
        size_t differ = missing(whole, said, &more);
        if (!differ)
            drop_needless(whole, said, first);
        if (!more.count)
            return differ;
        for (size_t i = 0; i < more.count; i++)
            mos_vec_push_pointer(said, mos_vec_pointer(&more, i));
    }
    return missing(whole, said, NULL);
}
