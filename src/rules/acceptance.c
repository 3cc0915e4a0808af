/* What a running board is to be asked: could the answers ever be right? */
#include "rules/rules.h"

#include "base/address.h"
#include "base/text.h"

#include <string.h>

struct view {
    struct mos_findings *list;
    struct mos_arena *arena;
    const struct mos_plan *plan;
    const struct mos_acceptance *a;
};

static void object(struct view *v, struct mos_place place, const char *message, const char *why,
                   const char *remedy) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOARD_ACCEPTANCE, "%s", message);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "%s", remedy);
}

static void check_commands(struct view *v) {
    for (size_t i = 0; i < v->a->checks.count; i++) {
        const struct mos_acceptance_check *c = v->a->checks.items[i];
        if (mos_has(c->type) &&
            (strlen(c->type->text) > MOS_ACCEPTANCE_LINE || strpbrk(c->type->text, "\r\n")))
            object(
                v, c->type->place,
                mos_printf(v->arena, "The command of %s cannot be typed as one line.", c->r.name),
                "It is typed at a prompt, and a shell takes a line of so many bytes.",
                "Put it into a program of the root, and type its name.");
    }
}

static void check_words(struct view *v) {
    static const char *const known[] = {"release", "arguments", "processor", "cores",
                                        "ram",     "root",      "host-name", "date"};
    enum { KNOWN = sizeof known / sizeof *known };
    for (size_t i = 0; i < v->a->without.count; i++) {
        const struct mos_value *w = v->a->without.items[i];
        bool found = !mos_has(w);
        for (size_t k = 0; k < KNOWN && !found; k++)
            found = strcmp(known[k], w->text) == 0;
        if (!found)
            object(v, w->place, mos_printf(v->arena, "No check is called %s.", w->text),
                   "It would leave out nothing.",
                   "Name one of release, arguments, processor, cores, ram, root, host-name, date.");
    }
    for (size_t i = 0; i < v->a->addresses.count; i++) {
        const struct mos_value *w = v->a->addresses.items[i];
        uint32_t address;
        unsigned prefix;
        if (mos_has(w) && (!mos_ipv4_read(w->text, &address, &prefix) || prefix != 32))
            object(v, w->place, mos_printf(v->arena, "%s is no IPv4 address.", w->text),
                   "The board could not have it.", "Write it as in 192.0.2.17.");
    }
    for (size_t i = 0; i < v->a->devices.count; i++) {
        const struct mos_value *w = v->a->devices.items[i];
        if (mos_has(w) && *w->text != '/')
            object(v, w->place, mos_printf(v->arena, "%s is no path of a device.", w->text),
                   "It would be looked for in some folder or other.", "Write it as in /dev/rtc0.");
    }
}

/* Nobody could log in by what was built. */
static void check_user(struct view *v) {
    const struct mos_system *s = v->plan->board->system;
    const char *name = mos_text_or(v->a->user, "root");
    const struct mos_user *u = s ? mos_named_get(&s->users, name) : NULL;
    if (u && mos_true(u->locked))
        object(v, u->locked->place,
               mos_printf(v->arena, "%s, who is to log in for the acceptance, is locked.", name),
               "The log-in at the console would refuse it.", "State another user in acceptance.");
}

void mos_rule_acceptance(const struct mos_plan *plan) {
    struct view v = {&plan->ctx->findings, plan->ctx->arena, plan, plan->board->acceptance};
    if (!v.a || v.a->r.broken)
        return;
    check_commands(&v);
    check_words(&v);
    check_user(&v);
}
