/* Partitions of a flash that are written by hand into the kernel's arguments
 * (Documentation in the kernel's drivers/mtd/parsers/cmdlinepart.c). */
#include "rules/layout-view.h"

#include "base/bytes.h"
#include "base/text.h"

#include <ctype.h>
#include <stdlib.h>
#include <string.h>

struct part {
    uint64_t start, length;
    bool rest;
    const char *name; /* NULL: none */
};

struct hand {
    const struct mos_plan *plan;
    const struct mos_value *value;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static struct mos_finding *tell(const struct hand *h, const char *at, size_t length,
                                struct mos_place there, const char *text) {
    struct mos_finding *f = mos_find(h->list, MOS_RULE_LAYOUT_FLASH_STRING, "%s", text);
    struct mos_place here = h->value->place;
    const char *found = here.source && length ? h->value->text : NULL;
    if (found && here.length >= strlen(h->value->text)) {   /* the part of it that is meant */
        size_t skip = here.length > strlen(h->value->text); /* a quote */
        here.offset += skip + (size_t)(at - h->value->text);
        here.length = length;
    }
    mos_finding_at(h->list, f, here);
    if (there.source)
        mos_finding_at(h->list, f, there);
    mos_finding_why(h->list, f,
                    "What lies behind a partition is read by its bytes, whoever they are of.");
    mos_finding_try(h->list, f, "Write mtdparts: <flash>, which follows from the layout.");
    return f;
}

/* "64k": bytes. */
static bool read_size(const char **p, uint64_t *out) {
    char *end;
    if (!isdigit((unsigned char)**p))
        return false;
    *out = strtoull(*p, &end, 0);
    static const char units[] = "kmg";
    const char *unit = *end ? strchr(units, tolower((unsigned char)*end)) : NULL;
    for (const char *u = units; unit && u <= unit; u++)
        if (!mos_mul(*out, 1024, out))
            return false;
    *p = end + (unit != NULL);
    return true;
}

/* One partition; `at`: where it starts when it does not say. */
static bool read_part(const struct hand *h, const char **p, uint64_t at, struct part *out) {
    *out = (struct part){.start = at};
    if (**p == '-') {
        out->rest = true;
        ++*p;
    } else if (!read_size(p, &out->length)) {
        return false;
    }
    if (**p == '@') {
        ++*p;
        if (!read_size(p, &out->start))
            return false;
    }
    if (**p == '(') {
        size_t n = strcspn(*p, ")");
        if (!(*p)[n])
            return false;
        out->name = mos_strndup(h->arena, *p + 1, n - 1);
        *p += n + 1;
    }
    for (bool more = true; more;) { /* read-only, locked, single-level cells */
        more = strncmp(*p, "ro", 2) == 0 || strncmp(*p, "lk", 2) == 0;
        bool slc = strncmp(*p, "slc", 3) == 0;
        *p += more ? 2 : slc ? 3 : 0;
        more |= slc;
    }
    return **p == ',' || **p == ';' || !**p;
}

static const struct mos_medium_plan *flash_called(const struct hand *h, const char *id) {
    for (size_t i = 0; i < h->plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&h->plan->media, i);
        if (mos_plan_is_flash(m) && strcmp(mos_text_or(m->medium->flash_id, ""), id) == 0)
            return m;
    }
    return NULL;
}

/* The first flash that has a name for the kernel. */
static const struct mos_medium_plan *any_flash(const struct hand *h) {
    for (size_t i = 0; i < h->plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&h->plan->media, i);
        if (mos_plan_is_flash(m) && mos_has(m->medium->flash_id))
            return m;
    }
    return NULL;
}

static const struct mos_region_plan *region_called(const struct mos_medium_plan *m,
                                                   const char *name) {
    for (size_t i = 0; i < m->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&m->regions, i);
        if (strcmp(r->name, name) == 0)
            return r;
    }
    return NULL;
}

/* A partition against the flash, those before it and the region of its name; false: it is told. */
static bool check_part(const struct hand *h, const struct mos_medium_plan *m, const struct part *x,
                       const struct mos_vec *before, const char *at, size_t length) {
    const char *name = x->name ? x->name : "without a name";
    uint64_t end = x->rest ? m->size : x->start + x->length;
    if (x->start > m->size || end > m->size || end < x->start) {
        tell(h, at, length, m->def->r.key_place,
             mos_printf(h->arena, "Partition %s ends at %s; %s has %s.", name,
                        mos_size_exact(h->arena, end), m->name, mos_size_exact(h->arena, m->size)));
        return false;
    }
    for (size_t i = 0; i < before->count; i++) {
        const struct part *o = mos_vec_at(before, i);
        if (x->start < o->start + o->length && o->start < end) {
            tell(h, at, length, m->def->r.key_place,
                 mos_printf(h->arena, "Partition %s, from %s on, lies over %s.", name,
                            mos_size_exact(h->arena, x->start), o->name ? o->name : "another"));
            return false;
        }
    }
    const struct mos_region_plan *r = x->name ? region_called(m, x->name) : NULL;
    if (!r || !r->placed || (r->start == x->start && r->length == end - x->start))
        return true;
    tell(h, at, length, stated_place(r),
         mos_printf(h->arena, "Partition %s is %s at %s; region %s is %s at %s.", x->name,
                    mos_size_exact(h->arena, end - x->start), mos_size_exact(h->arena, x->start),
                    r->name, mos_size_exact(h->arena, r->length),
                    mos_size_exact(h->arena, r->start)));
    return false;
}

static void check_string(const struct hand *h) {
    const char *p = h->value->text;
    while (*p) {
        size_t n = strcspn(p, ";, ("); /* an identifier may have colons in it */
        const char *colon = NULL;
        for (size_t i = 0; i < n; i++)
            colon = p[i] == ':' ? p + i : colon;
        if (!colon) {
            tell(h, p, n, (struct mos_place){0},
                 mos_printf(h->arena, "\"%.*s\" is no flash with a colon behind its name.", (int)n,
                            p));
            return;
        }
        const char *id = mos_strndup(h->arena, p, (size_t)(colon - p));
        const struct mos_medium_plan *m = flash_called(h, id), *other = any_flash(h);
        if (!m && other) {
            tell(h, p, strlen(id), other->medium->flash_id->place,
                 mos_printf(h->arena,
                            "The kernel's arguments divide a flash %s; the board's is %s.", id,
                            other->medium->flash_id->text));
            return;
        }
        struct mos_vec parts = mos_vec_make(h->arena, sizeof(struct part));
        uint64_t at = 0;
        for (p = colon + 1;; p++) {
            const char *begin = p;
            struct part x;
            if (!read_part(h, &p, at, &x)) {
                tell(h, begin, strcspn(begin, ",;"), (struct mos_place){0},
                     mos_printf(h->arena, "\"%.*s\" is no partition: SIZE[@OFFSET](NAME)[ro].",
                                (int)strcspn(begin, ",;"), begin));
                return;
            }
            if (m && !check_part(h, m, &x, &parts, begin, (size_t)(p - begin)))
                return;
            *(struct part *)mos_vec_push(&parts) = x;
            at = x.start + x.length;
            if (*p != ',')
                break;
        }
        p += *p == ';';
    }
}

void mos_rule_flash_string(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const struct mos_argument *a = mos_named_get(&e->def->arguments, "mtdparts");
        for (size_t k = 0; a && k < a->values.count; k++) {
            const struct hand h = {plan, a->values.items[k], &plan->ctx->findings,
                                   plan->ctx->arena};
            if (mos_has(h.value) && !strchr(h.value->text, '<'))
                check_string(&h);
        }
    }
}
