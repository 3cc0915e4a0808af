/* Ways of programming a board's soldered storage: can each of their steps work at all? */
#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

struct way_view {
    const struct mos_plan *plan;
    struct mos_findings *list;
    struct mos_arena *arena;
    const struct mos_programming *way;
    const struct mos_program_step *step;
    bool prompted; /* a step before it, or it itself, waits for the prompt */
};

static struct mos_finding *object(struct way_view *v, struct mos_place place, const char *message,
                                  const char *why, const char *remedy) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BOARD_PROGRAMMING, "%s", message);
    mos_finding_at(v->list, f, place);
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "%s", remedy);
    return f;
}

static const char *name_of(const struct way_view *v) {
    return mos_printf(v->arena, "step %s of way %s", v->step->r.name, v->way->r.name);
}

/* ---- what a step is ---- */

static void check_deeds(struct way_view *v) {
    const struct mos_program_step *s = v->step;
    unsigned deeds = (s->command.count > 0) + (s->type.count > 0) + (s->write != NULL);
    if (!deeds && !s->person && !mos_true(s->prompt) && !s->sees && !s->by)
        object(v, s->r.key_place, mos_printf(v->arena, "Nothing is done in %s.", name_of(v)),
               "It would be told as done, and nothing would have changed.",
               "State person, command, prompt, type, write or sees.");
    if (deeds > 1)
        object(v, s->r.key_place,
               mos_printf(v->arena, "More than one thing is done in %s.", name_of(v)),
               "Where one of them fails, nobody could tell how far it came.",
               "Make a step of each of command, type and write.");
    if (s->by && !s->write)
        object(v, s->by->place, mos_printf(v->arena, "Nothing is written in %s.", name_of(v)),
               "How it gets there is said, and not what.", "Add write: and the medium.");
    if (mos_has(s->write) && !s->by)
        object(
            v, s->write->place,
            mos_printf(v->arena, "How the image gets to the board is not said in %s.", name_of(v)),
            "There are several ways, and none that is usual.",
            "Add by: network, serial, usb-disk or dfu.");
}

/* ---- through the loader ---- */

static const struct mos_setting *left_out(const struct way_view *v, const char *command,
                                          const char **symbol) {
    const struct mos_loader_command *c = v->plan->dialect->commands;
    while (c && c->name && strcmp(c->name, command) != 0)
        c++;
    *symbol = c && c->name ? c->symbol : NULL;
    const struct mos_setting *s = *symbol ? mos_plan_loader_symbol(v->plan, *symbol) : NULL;
    return s && strcmp(s->value, "y") != 0 ? s : NULL;
}

static void check_command(struct way_view *v, struct mos_place place, const char *command) {
    const char *symbol;
    const struct mos_setting *s = left_out(v, command, &symbol);
    if (!s)
        return;
    struct mos_finding *f =
        object(v, place,
               mos_printf(v->arena, "The loader was built without the command %s, which %s needs.",
                          command, name_of(v)),
               mos_printf(v->arena, "It would say \"%s%s%s\", and the board stays as it is.",
                          v->plan->dialect->unknown[0], command, v->plan->dialect->unknown[1]),
               mos_printf(v->arena, "Set %s=y in the loader's configuration, and build it again.",
                          symbol));
    mos_finding_at(v->list, f, s->place);
}

static void check_commands(struct way_view *v, const struct mos_medium *medium) {
    const struct mos_loader_orders *orders = v->plan->dialect->orders;
    struct mos_place place = v->step->write->place;
    const char *const *list = orders->commands(medium->loader->text);
    for (; *list; list++)
        check_command(v, place, *list);
    check_command(v, v->step->by->place,
                  mos_program_way_of(v->step->by) == MOS_PROGRAM_BY_SERIAL ? orders->receives
                                                                           : orders->fetches);
}

static void check_names(struct way_view *v) {
    if (!v->step->names.count)
        object(v, v->step->write->place,
               mos_printf(v->arena, "What the part is called is not said in %s.", name_of(v)),
               "The loader's number of a device changes with what is plugged in: it alone is never "
               "trusted.",
               "Add names: and what the loader calls it, as its own commands tell.");
}

static uint64_t least_of(const struct mos_medium *medium) {
    enum mos_medium_kind kind = mos_medium_kind_of(medium->kind);
    bool flash = kind == MOS_MEDIUM_NOR || kind == MOS_MEDIUM_NAND;
    uint64_t erase = flash && mos_has(medium->erase) ? medium->erase->number : 0;
    return 2 * mos_round_up(mos_max(erase, MOS_ORDER_LEAST_PIECE), 4096);
}

static void check_window(struct way_view *v, const struct mos_medium *medium) {
    const struct mos_window *w = v->way->window;
    const struct mos_ram_map *ram = &v->plan->ram;
    uint64_t least = least_of(medium), end;
    if (!w || !mos_has(w->start) || !mos_has(w->size))
        return;
    if (w->size->number < least)
        object(v, w->size->place,
               mos_printf(v->arena, "The window of way %s, %s, does not hold two pieces of %s.",
                          v->way->r.name, mos_size_text(v->arena, w->size->number),
                          mos_size_text(v->arena, least / 2)),
               "A piece goes through it to the storage, and is read back beside it.",
               mos_printf(v->arena, "Make it %s at least.", mos_size_text(v->arena, least)));
    else if (v->plan->has_ram && (!mos_add(w->start->number, w->size->number, &end) ||
                                  w->start->number < ram->start || end > ram->top))
        object(v, w->start->place,
               mos_printf(v->arena, "The window of way %s is not within the RAM that is free.",
                          v->way->r.name),
               mos_printf(v->arena, "Free is 0x%llx to 0x%llx; behind that lies the loader itself.",
                          (unsigned long long)ram->start, (unsigned long long)ram->top),
               "Move it, or leave window out: the loader tells what is free.");
}

static void check_loader(struct way_view *v) {
    const struct mos_program_step *s = v->step;
    const struct mos_loader_orders *orders = v->plan->dialect ? v->plan->dialect->orders : NULL;
    const struct mos_medium *medium = s->write->target;
    if (!orders) {
        object(v, s->by->place,
               mos_printf(v->arena, "No loader that takes commands is stated, and %s needs one.",
                          name_of(v)),
               "Somebody on the board has to put into storage what comes.",
               "State loader: {dialect: …}, or use another way.");
        return;
    }
    if (!mos_has(medium->loader)) {
        if (!medium->loader)
            object(v, s->write->place,
                   mos_printf(v->arena, "What the loader calls %s is not said, and %s needs it.",
                              medium->r.name, name_of(v)),
                   "Its commands name the device.",
                   mos_printf(v->arena, "Add loader: to medium %s, as in loader: mmc 0.",
                              medium->r.name));
        return;
    }
    const char *why = orders->takes(medium->loader->text);
    if (why) {
        struct mos_finding *f = object(v, s->write->place,
                                       mos_printf(v->arena, "%s cannot be written in %s: %s.",
                                                  medium->loader->text, name_of(v), why),
                                       "A step that cannot work stops the way in the middle.",
                                       "Use another way for this medium.");
        mos_finding_at(v->list, f, medium->loader->place);
        return;
    }
    check_commands(v, medium);
    check_names(v);
    check_window(v, medium);
}

/* Whoever types must know that somebody listens. */
static void check_prompt(struct way_view *v) {
    const struct mos_program_step *s = v->step;
    enum mos_program_way by = mos_program_way_of(s->by);
    bool types = s->type.count || (mos_has(s->write) &&
                                   (by == MOS_PROGRAM_BY_NETWORK || by == MOS_PROGRAM_BY_SERIAL));
    v->prompted = v->prompted || mos_true(s->prompt);
    if (types && !v->prompted) {
        object(v, s->r.key_place,
               mos_printf(v->arena, "Nobody has stopped the loader before %s.", name_of(v)),
               "Its countdown goes on, it boots, and what is typed goes nowhere.",
               "Add prompt: yes to the step in which the board gets its power.");
        v->prompted = true; /* once a way */
    }
}

static void check_usb(struct way_view *v) {
    bool dfu = mos_program_way_of(v->step->by) == MOS_PROGRAM_BY_DFU;
    if (!v->step->usb)
        object(v, v->step->by->place,
               mos_printf(v->arena, "Which USB %s the board becomes is not said in %s.",
                          dfu ? "device" : "disk", name_of(v)),
               "Any other one that is plugged in meanwhile would be taken for it.",
               "Add usb: {vendor: 0x…, product: 0x…}.");
    if (dfu && v->step->regions.count > 1)
        object(v, v->step->regions.items[1]->place,
               mos_printf(v->arena, "More than one region goes to one place in %s.", name_of(v)),
               "A place of such a device takes one file, from its beginning to its end.",
               "Make a step of each region.");
    if (v->step->area && !dfu)
        object(
            v, v->step->area->place,
            mos_printf(v->arena, "An area is no disk of its own, as %s would have it.", name_of(v)),
            "A board shows the main part of its storage.", "Use by: network or serial for it.");
}

static void check_step(struct way_view *v) {
    const struct mos_program_step *s = v->step;
    check_deeds(v);
    check_prompt(v);
    if (!mos_has(s->write) || !mos_has(s->by) || !s->write->target)
        return;
    enum mos_program_way by = mos_program_way_of(s->by);
    if (by == MOS_PROGRAM_BY_USB_DISK || by == MOS_PROGRAM_BY_DFU)
        check_usb(v);
    else
        check_loader(v);
}

void mos_rule_programming(const struct mos_plan *plan) {
    const struct mos_named *ways = &plan->board->programming;
    for (size_t i = 0; i < ways->count; i++) {
        struct way_view v = {.plan = plan,
                             .list = &plan->ctx->findings,
                             .arena = plan->ctx->arena,
                             .way = ways->items[i]};
        if (!v.way->steps.count && !v.way->r.broken)
            object(&v, v.way->r.key_place,
                   mos_printf(v.arena, "Way %s has no steps.", v.way->r.name),
                   "It would be told as done, and nothing would have changed.", "Add steps.");
        for (size_t k = 0; k < v.way->steps.count; k++) {
            v.step = v.way->steps.items[k];
            if (!v.step->r.broken)
                check_step(&v);
        }
    }
}
