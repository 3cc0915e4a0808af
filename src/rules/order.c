/* The order of what a script does: something is started before it was loaded, or a variable used
 * before it is set.  The dialect follows the commands (struct mos_loader_language); what loops do
 * is not judged. */
#include "rules/rules.h"

#include <string.h>

struct order_view {
    const struct mos_plan *plan;
    const struct mos_environment_plan *env;
    struct mos_vec steps; /* of struct mos_step */
};

static const struct mos_step *find(const struct order_view *w, enum mos_deed deed, const char *what,
                                   size_t from, size_t to) {
    for (size_t i = from; i < to; i++) {
        const struct mos_step *s = mos_vec_at(&w->steps, i);
        if (s->deed == deed && strcmp(s->what, what) == 0)
            return s;
    }
    return NULL;
}

static bool is_known(const struct order_view *w, const char *name) {
    return mos_map_get(&w->env->variables, name) || w->plan->dialect->language.sets(name);
}

static void complain(const struct order_view *w, const struct mos_step *early,
                     const struct mos_step *late) {
    struct mos_findings *list = &w->plan->ctx->findings;
    bool starts = early->deed == MOS_DEED_STARTS;
    struct mos_finding *f =
        starts ? mos_find(list, MOS_RULE_BOOT_SCRIPT_ORDER,
                          "Variable %s runs %s at %s before anything is loaded there.",
                          early->by->name, early->command, early->what)
               : mos_find(list, MOS_RULE_BOOT_SCRIPT_ORDER,
                          "Variable %s uses ${%s} before it is set.", early->by->name, early->what);
    mos_finding_at(list, f, early->by->place);
    if (late->by != early->by)
        mos_finding_at(list, f, late->by->place);
    mos_finding_why(list, f, "%s comes later%s%s.", late->command,
                    late->by != early->by ? ", in " : "",
                    late->by != early->by ? late->by->name : "");
    mos_finding_try(list, f, "Put %s first.", late->command);
}

/* One finding an environment: the first mistake stops the board. */
static void judge(const struct order_view *w) {
    for (size_t i = 0; i < w->steps.count; i++) {
        const struct mos_step *s = mos_vec_at(&w->steps, i);
        enum mos_deed cure = s->deed == MOS_DEED_STARTS ? MOS_DEED_LOADS : MOS_DEED_SETS;
        if (s->in_loop || (s->deed != MOS_DEED_STARTS && s->deed != MOS_DEED_USES) ||
            (s->deed == MOS_DEED_USES && is_known(w, s->what)) || find(w, cure, s->what, 0, i))
            continue;
        const struct mos_step *late = find(w, cure, s->what, i + 1, w->steps.count);
        if (!late)
            continue;
        complain(w, s, late);
        return;
    }
}

void mos_rule_order(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->environments.count && plan->dialect; i++) {
        const struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        if (!plan->dialect->language.follow)
            return;
        struct order_view w = {plan, e,
                               plan->dialect->language.follow(plan->ctx->arena, &e->variables)};
        judge(&w);
    }
}
