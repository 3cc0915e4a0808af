/* What symbols come to (Documentation/kbuild/kconfig-language.rst, "Menu dependencies" and "Menu
 * attributes"). */
#include "kconfig/values.h"

#include <errno.h>
#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

static struct mos_kc_value *value_of(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    return &c->values[s->index];
}

static struct mos_kc_value *settle(struct mos_kc_config *c, const struct mos_kc_symbol *s);

static enum mos_tri least(enum mos_tri a, enum mos_tri b) {
    return a < b ? a : b;
}

static enum mos_tri most(enum mos_tri a, enum mos_tri b) {
    return a > b ? a : b;
}

/* ---- expressions ---- */

struct number {
    bool is_number, is_signed;
    int64_t value;
    uint64_t plain;
};

static struct number number_of(const struct mos_kc_symbol *s, const char *text) {
    struct number n = {.is_number = true, .is_signed = true};
    char *end;
    errno = 0;
    switch (s->type) {
    case MOS_KC_BOOL:
    case MOS_KC_TRISTATE:
        n.value = *text == 'y' ? 2 : *text == 'm';
        return n;
    case MOS_KC_HEX:
        n.is_signed = false;
        n.plain = strtoull(text, &end, 16);
        n.value = (int64_t)n.plain;
        break;
    case MOS_KC_INT:
        n.value = strtoll(text, &end, 10);
        n.plain = (uint64_t)n.value;
        break;
    default:
        n.value = strtoll(text, &end, 0);
        n.plain = (uint64_t)n.value;
        break;
    }
    n.is_number = !errno && !*end && end > text && strchr("0123456789abcdefABCDEF", end[-1]);
    return n;
}

static bool compares(struct mos_kc_config *c, const struct mos_kc_expr *e) {
    const char *a = mos_kc_text(c, e->symbol), *b = mos_kc_text(c, e->other);
    struct number x = number_of(e->symbol, a), y = number_of(e->other, b);
    int order;
    if (!x.is_number || !y.is_number)
        order = strcmp(a, b);
    else if (!x.is_signed || !y.is_signed)
        order = (x.plain > y.plain) - (x.plain < y.plain);
    else
        order = (x.value > y.value) - (x.value < y.value);
    switch (e->op) {
    case MOS_KC_EQUAL:
        return order == 0;
    case MOS_KC_UNEQUAL:
        return order != 0;
    case MOS_KC_LESS:
        return order < 0;
    case MOS_KC_MORE:
        return order > 0;
    case MOS_KC_LESS_EQUAL:
        return order <= 0;
    default:
        return order >= 0;
    }
}

static enum mos_tri work_out(struct mos_kc_config *c, const struct mos_kc_expr *e) {
    switch (e->op) {
    case MOS_KC_SYMBOL:
        return mos_kc_tri(c, e->symbol);
    case MOS_KC_NOT:
        return MOS_TRI_Y - mos_kc_expr_value(c, e->left);
    case MOS_KC_AND: {
        enum mos_tri a = mos_kc_expr_value(c, e->left);
        return a ? least(a, mos_kc_expr_value(c, e->right)) : a;
    }
    case MOS_KC_OR: {
        enum mos_tri a = mos_kc_expr_value(c, e->left);
        return a == MOS_TRI_Y ? a : most(a, mos_kc_expr_value(c, e->right));
    }
    default:
        return compares(c, e) ? MOS_TRI_Y : MOS_TRI_N;
    }
}

/* What hangs on a symbol that is being worked out is not kept. */
enum mos_tri mos_kc_expr_value(struct mos_kc_config *c, const struct mos_kc_expr *e) {
    if (!e)
        return MOS_TRI_Y;
    if (c->known[e->index])
        return c->known[e->index] - 1;
    size_t pending = c->pending;
    enum mos_tri value = work_out(c, e);
    if (c->pending == pending)
        c->known[e->index] = (uint8_t)(value + 1);
    return value;
}

/* ---- symbols ---- */

/* Without modules, what could be one is on or off. */
static bool has_three(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    if (s->type != MOS_KC_TRISTATE)
        return false;
    if (s->choice && value_of(c, s)->visible == MOS_TRI_N)
        return false;
    return c->modules != MOS_TRI_N;
}

static enum mos_tri rounded(struct mos_kc_config *c, const struct mos_kc_symbol *s,
                            enum mos_tri value) {
    return value == MOS_TRI_M && !has_three(c, s) ? MOS_TRI_Y : value;
}

static void see(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    struct mos_kc_value *v = value_of(c, s);
    enum mos_tri visible = MOS_TRI_N;
    for (const struct mos_kc_property *p = s->first[MOS_KC_PROMPT]; p; p = p->next)
        visible = most(visible, mos_kc_expr_value(c, p->condition));
    if (visible == MOS_TRI_M && (s->type != MOS_KC_TRISTATE || c->modules == MOS_TRI_N))
        visible = MOS_TRI_Y;
    v->visible = (uint8_t)visible;
    if (s->choice)
        return;
    v->depends = (uint8_t)rounded(c, s, mos_kc_expr_value(c, s->depends));
    enum mos_tri by = MOS_TRI_N;
    for (const struct mos_kc_property *p = s->selected_by; p && by < MOS_TRI_Y; p = p->other)
        by = most(by, least(mos_kc_tri(c, p->entry->symbol), mos_kc_expr_value(c, p->condition)));
    /* a choice that must have an answer is at least open wherever it is seen */
    for (const struct mos_kc_property *p = s->is_choice && !s->optional ? s->first[MOS_KC_PROMPT]
                                                                        : NULL;
         p; p = p->next)
        by = most(by, least(MOS_TRI_M, mos_kc_expr_value(c, p->condition)));
    v->selected = (uint8_t)rounded(c, s, by);
    by = MOS_TRI_N;
    bool may = c->tree->manner.capped || v->depends != MOS_TRI_N;
    for (const struct mos_kc_property *p = may ? s->implied_by : NULL; p && by < MOS_TRI_Y;
         p = p->other)
        by = most(by, least(mos_kc_tri(c, p->entry->symbol), mos_kc_expr_value(c, p->condition)));
    v->implied = (uint8_t)rounded(c, s, by);
}

/* The first default whose condition holds; *cap: how far. */
static const struct mos_kc_property *default_of(struct mos_kc_config *c,
                                                const struct mos_kc_symbol *s, enum mos_tri *cap) {
    for (const struct mos_kc_property *p = s->first[MOS_KC_DEFAULT]; p; p = p->next)
        if ((*cap = mos_kc_expr_value(c, p->condition)) != MOS_TRI_N)
            return p;
    return NULL;
}

static void settle_three(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    struct mos_kc_value *v = value_of(c, s);
    enum mos_tri value = MOS_TRI_N, cap;
    if (s->choice && v->visible == MOS_TRI_Y) {
        v->tri = settle(c, s->choice)->member == s ? MOS_TRI_Y : MOS_TRI_N;
        return;
    }
    if (v->visible != MOS_TRI_N && v->asked) {
        value = least(v->asked_tri, v->visible);
    } else {
        v->written |= v->selected != MOS_TRI_N;
        const struct mos_kc_property *p = s->is_choice ? NULL : default_of(c, s, &cap);
        if (p) {
            value = least(mos_kc_expr_value(c, p->value), cap);
            v->written |= value != MOS_TRI_N;
        }
        if (!s->is_choice && v->implied != MOS_TRI_N) {
            v->written = true;
            value = most(value, v->implied);
            if (c->tree->manner.capped)
                value = least(value, v->depends);
        }
    }
    if (value == MOS_TRI_M && v->implied == MOS_TRI_Y && !c->tree->manner.capped)
        value = MOS_TRI_Y;
    v->tri = (uint8_t)rounded(c, s, most(value, v->selected));
}

static int64_t limit_of(struct mos_kc_config *c, const struct mos_kc_symbol *s, int base) {
    const char *text = mos_kc_text(c, s);
    return strtoll(text, NULL, s->type == MOS_KC_INT ? 10 : s->type == MOS_KC_HEX ? 16 : base);
}

static const struct mos_kc_property *range_of(struct mos_kc_config *c,
                                              const struct mos_kc_symbol *s) {
    const struct mos_kc_property *p = s->first[MOS_KC_RANGE];
    while (p && mos_kc_expr_value(c, p->condition) == MOS_TRI_N)
        p = p->next;
    return p;
}

static void clamp(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    struct mos_kc_value *v = value_of(c, s);
    const struct mos_kc_property *p = s->type == MOS_KC_STRING ? NULL : range_of(c, s);
    if (!p)
        return;
    int base = s->type == MOS_KC_INT ? 10 : 16;
    int64_t value = strtoll(v->text, NULL, base), low = limit_of(c, p->symbol, base),
            high = limit_of(c, p->upper, base);
    if (value >= low && value <= high)
        return;
    value = value < low ? low : high;
    v->text = base == 10 ? mos_printf(c->arena, "%" PRId64, value)
                         : mos_printf(c->arena, "0x%" PRIx64, (uint64_t)value);
}

static void settle_text(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    struct mos_kc_value *v = value_of(c, s);
    enum mos_tri cap;
    const struct mos_kc_property *p;
    if (v->visible != MOS_TRI_N && v->asked) {
        v->text = v->asked_text;
    } else if ((p = default_of(c, s, &cap)) && p->value->op == MOS_KC_SYMBOL) {
        const struct mos_kc_symbol *from = p->value->symbol;
        v->written = true;
        v->text = from->type == MOS_KC_BOOL || (from->type == MOS_KC_TRISTATE && !from->constant)
                      ? "n"
                      : mos_kc_text(c, from);
    }
    clamp(c, s);
}

/* Of a ranked choice: who was asked for last; else one that was not switched off, the default
 * first; else who was switched off first. */
static const struct mos_kc_symbol *pick_ranked(struct mos_kc_config *c,
                                               const struct mos_kc_symbol *choice,
                                               const struct mos_kc_symbol *usual) {
    const struct mos_kc_symbol *wanted = NULL, *open = NULL, *off = NULL;
    for (const struct mos_kc_symbol *m = choice->first_member; m; m = m->next_member) {
        const struct mos_kc_value *v = value_of(c, m);
        if (v->visible == MOS_TRI_N)
            continue;
        if (!v->asked)
            open = open ? open : m;
        else if (v->asked_tri == MOS_TRI_N)
            off = off && value_of(c, off)->rank < v->rank ? off : m;
        else if (!wanted || value_of(c, wanted)->rank < v->rank)
            wanted = m;
    }
    const struct mos_kc_value *u = usual ? value_of(c, usual) : NULL;
    bool usable = u && !(u->asked && u->asked_tri == MOS_TRI_N);
    return wanted ? wanted : usable ? usual : open ? open : off;
}

static const struct mos_kc_symbol *pick(struct mos_kc_config *c,
                                        const struct mos_kc_symbol *choice) {
    const struct mos_kc_symbol *first = NULL, *wanted = value_of(c, choice)->asked_member;
    for (const struct mos_kc_symbol *m = choice->first_member; m; m = m->next_member) {
        see(c, m);
        if (!first && value_of(c, m)->visible != MOS_TRI_N)
            first = m;
    }
    if (!c->tree->manner.ranked && wanted && value_of(c, wanted)->visible != MOS_TRI_N)
        return wanted;
    const struct mos_kc_symbol *usual = NULL;
    for (const struct mos_kc_property *p = choice->first[MOS_KC_DEFAULT]; p && !usual; p = p->next)
        if (p->value->op == MOS_KC_SYMBOL && p->value->symbol->choice == choice &&
            mos_kc_expr_value(c, p->condition) != MOS_TRI_N &&
            value_of(c, p->value->symbol)->visible != MOS_TRI_N)
            usual = p->value->symbol;
    if (c->tree->manner.ranked)
        return pick_ranked(c, choice, usual);
    return usual ? usual : first;
}

static struct mos_kc_value *settle(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    struct mos_kc_value *v = value_of(c, s);
    if (v->stage) {
        c->pending += v->stage == 1;
        return v;
    }
    if (s->type == MOS_KC_UNKNOWN || s->constant) {
        v->stage = 2;
        v->text = s->name ? s->name : "";
        return v;
    }
    v->stage = 1;
    v->tri = MOS_TRI_N;
    bool zero = c->tree->manner.zeros;
    v->text = zero && s->type == MOS_KC_INT ? "0" : zero && s->type == MOS_KC_HEX ? "0x0" : "";
    see(c, s);
    v->written = v->visible != MOS_TRI_N;
    if (s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE)
        settle_three(c, s);
    else
        settle_text(c, s);
    if (s->is_choice) {
        v->stage = 2; /* its members may look at it now */
        if (v->tri == MOS_TRI_Y)
            v->member = pick(c, s);
        v->written = false;
    }
    if (s->from_environment)
        v->written = false;
    v->stage = 2;
    return v;
}

enum mos_tri mos_kc_tri(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    return s == c->tree->y ? MOS_TRI_Y : s == c->tree->m ? MOS_TRI_M : settle(c, s)->tri;
}

const char *mos_kc_text(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    if (s->constant)
        return s->name;
    struct mos_kc_value *v = settle(c, s);
    if (s->type != MOS_KC_BOOL && s->type != MOS_KC_TRISTATE)
        return v->text;
    return v->tri == MOS_TRI_Y ? "y" : v->tri == MOS_TRI_M && c->modules ? "m" : "n";
}

/* ---- what is asked for ---- */

struct mos_kc_config *mos_kc_config_new(struct mos_arena *arena, const struct mos_kc_tree *tree) {
    struct mos_kc_config *c = mos_alloc(arena, sizeof *c);
    *c =
        (struct mos_kc_config){.tree = tree,
                               .arena = arena,
                               .values = mos_alloc_array(arena, tree->all.count, sizeof *c->values),
                               .known = mos_alloc(arena, tree->expr_count),
                               .refused = mos_vec_make(arena, sizeof(struct mos_kc_refused))};
    for (size_t i = 0; i < tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&tree->all, i);
        c->values[i].asked = s->is_choice;
    }
    return c;
}

struct mos_kc_config *mos_kc_config_again(struct mos_arena *arena, const struct mos_kc_config *c) {
    struct mos_kc_config *out = mos_alloc(arena, sizeof *out);
    size_t count = c->tree->all.count;
    *out = *c;
    out->arena = arena;
    out->values = mos_alloc_array(arena, count, sizeof *out->values);
    memcpy(out->values, c->values, count * sizeof *out->values);
    for (size_t i = 0; i < count; i++)
        out->values[i].stage = 0;
    out->known = mos_alloc(arena, c->tree->expr_count);
    out->refused = mos_vec_copy(arena, &c->refused);
    return out;
}

static void refuse(struct mos_kc_config *c, const struct mos_setting *setting,
                   const struct mos_kc_symbol *symbol, const char *why) {
    *(struct mos_kc_refused *)mos_vec_push(&c->refused) =
        (struct mos_kc_refused){setting, symbol, why};
}

/* An integer is written without zeros in front; a hexadecimal number may have 0x. */
static bool is_number(const char *text, bool hex) {
    if (!hex && *text == '-')
        text++;
    if (hex && *text == '0' && (text[1] == 'x' || text[1] == 'X'))
        text += 2;
    size_t n = strspn(text, hex ? "0123456789abcdefABCDEF" : "0123456789");
    return n && !text[n] && (hex || *text != '0' || !text[1]);
}

/* What stands between the quotation marks; NULL: there are none. */
static const char *unquoted(struct mos_arena *arena, const char *text, bool raw) {
    size_t n = strlen(text), k = 0;
    if (n < 2 || text[0] != '"' || text[n - 1] != '"')
        return NULL;
    char *out = mos_alloc(arena, n);
    for (size_t i = 1; i + 1 < n; i++) {
        if (text[i] == '\\' && i + 2 < n && !raw)
            i++;
        out[k++] = text[i];
    }
    out[k] = 0;
    return out;
}

static void ask_choice(struct mos_kc_config *c, const struct mos_kc_symbol *s, enum mos_tri tri) {
    struct mos_kc_value *v = value_of(c, s->choice);
    if (tri == MOS_TRI_M && v->asked_tri == MOS_TRI_Y)
        v->asked = false; /* both cannot be */
    if (tri == MOS_TRI_Y && !(c->tree->manner.once && v->asked_member))
        v->asked_member = s;
    v->asked_tri = (uint8_t)most(v->asked_tri, tri);
}

static void ask_one(struct mos_kc_config *c, const struct mos_setting *setting) {
    const char *name = strncmp(setting->symbol, "CONFIG_", 7) == 0 ? setting->symbol + 7
                                                                   : setting->symbol,
               *value = setting->value;
    const struct mos_kc_symbol *s = mos_kc_find(c->tree, name);
    if (!s || !s->entry || s->type == MOS_KC_UNKNOWN || s->is_choice) {
        refuse(c, setting, NULL, "the tree has no such symbol");
        return;
    }
    struct mos_kc_value *v = value_of(c, s);
    if (s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE) {
        bool three = value[0] && !value[1] && strchr("nmy", *value);
        if (!three || (*value == 'm' && s->type == MOS_KC_BOOL)) {
            refuse(c, setting, s, *value == 'm' ? "it cannot be a module" : "it is y, m or n");
            return;
        }
        v->asked_tri = *value == 'y' ? MOS_TRI_Y : *value == 'm' ? MOS_TRI_M : MOS_TRI_N;
        v->asked = true;
        v->rank = ++c->ranks;
        v->setting = setting;
        if (s->choice)
            ask_choice(c, s, v->asked_tri);
        return;
    }
    if (strcmp(value, "n") == 0)
        return; /* "is not set": nothing of a text or number */
    const char *text =
        s->type == MOS_KC_STRING ? unquoted(c->arena, value, c->tree->manner.raw) : value;
    if (!text || (s->type != MOS_KC_STRING && !is_number(text, s->type == MOS_KC_HEX))) {
        refuse(c, setting, s,
               s->type == MOS_KC_STRING ? "it is a text in quotation marks" : "it is a number");
        return;
    }
    v->asked_text = text;
    v->asked = true;
    v->setting = setting;
}

void mos_kc_ask(struct mos_kc_config *c, const struct mos_setting *const *settings, size_t count) {
    for (size_t i = 0; i < count; i++)
        ask_one(c, settings[i]);
}

/* ---- all of it ---- */

void mos_kc_start(struct mos_kc_config *c) {
    for (size_t i = 0; i < c->tree->all.count; i++) {
        struct mos_kc_value *v = &c->values[i];
        v->stage = 0;
        v->member = NULL;
    }
    memset(c->known, 0, c->tree->expr_count);
    c->modules = MOS_TRI_N;
    if (c->tree->modules)
        c->modules = mos_kc_tri(c, c->tree->modules);
}

static void settle_all(struct mos_kc_config *c) {
    mos_kc_start(c);
    for (size_t i = 0; i < c->tree->all.count; i++)
        settle(c, mos_vec_pointer(&c->tree->all, i));
}

static bool within_range(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    const struct mos_kc_property *p = s->type == MOS_KC_STRING ? NULL : range_of(c, s);
    int base = s->type == MOS_KC_INT ? 10 : 16;
    int64_t value = p ? strtoll(value_of(c, s)->asked_text, NULL, base) : 0;
    return !p || (value >= limit_of(c, p->symbol, base) && value <= limit_of(c, p->upper, base));
}

/* A number beyond its range is let go of once all is settled, and works out to its default; what
 * hangs on it stays as it is, which is how those resolvers have it. */
void mos_kc_settle(struct mos_kc_config *c) {
    struct mos_vec again = mos_vec_make(c->arena, sizeof(void *));
    settle_all(c);
    for (size_t i = 0; i < c->tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&c->tree->all, i);
        struct mos_kc_value *v = &c->values[i];
        if (!v->asked || s->type < MOS_KC_INT || s->is_choice || within_range(c, s))
            continue;
        refuse(c, v->setting, s, "it is beyond its range");
        if (c->tree->manner.clamps)
            continue;
        v->asked = false;
        v->stage = 0;
        mos_vec_push_pointer(&again, s);
    }
    if (again.count)
        memset(c->known, 0, c->tree->expr_count);
    for (size_t i = 0; i < again.count; i++)
        settle(c, mos_vec_pointer(&again, i));
}

/* The same choice, if none of its members had been asked for. */
static bool is_picked_anyway(struct mos_kc_config *c, const struct mos_kc_symbol *choice) {
    struct mos_kc_value *of = value_of(c, choice), kept = *of, *members;
    uint32_t count = 0, at = 0;
    for (const struct mos_kc_symbol *m = choice->first_member; m; m = m->next_member)
        count++;
    members = mos_alloc_array(c->arena, count, sizeof *members);
    for (const struct mos_kc_symbol *m = choice->first_member; m; m = m->next_member) {
        members[at++] = *value_of(c, m);
        value_of(c, m)->asked = false;
    }
    of->asked_member = NULL;
    bool same = pick(c, choice) == kept.member;
    *of = kept;
    at = 0;
    for (const struct mos_kc_symbol *m = choice->first_member; m; m = m->next_member)
        *value_of(c, m) = members[at++];
    return same;
}

bool mos_kc_is_asked_in_vain(struct mos_kc_config *c, const struct mos_kc_symbol *s) {
    struct mos_kc_value *v = value_of(c, s), saved = *v;
    if (s->choice && saved.visible == MOS_TRI_Y)
        return is_picked_anyway(c, s->choice);
    v->asked = false;
    v->stage = 0;
    const struct mos_kc_value now = *settle(c, s);
    bool three = s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE;
    *v = saved;
    return three ? now.tri == saved.tri : strcmp(now.text, saved.text) == 0;
}
