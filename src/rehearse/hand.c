/* From what a loader has settled to the kernel's first instruction: what every loader does. */
#include "rehearse/sim.h"

#include <assert.h>
#include <string.h>

enum { MOST_MOVED = 512 << 20 };

static bool meets(struct mos_ram_span a, uint64_t start, uint64_t length) {
    return a.length && length && start < a.start + a.length && a.start < start + length;
}

void sim_move(struct sim *s, uint64_t from, uint64_t to, uint64_t size, const char *what) {
    assert(what);
    uint8_t *copy = sim_ram_copy(s, from, size, MOST_MOVED);
    if (!copy)
        return;
    sim_event(s, MOS_EVENT_MOVE, to, size, NULL, "the %s is moved", what);
    sim_ram_claim(s, to, size, mos_printf(s->arena, "the %s", what));
    sim_ram_write(s, to, copy, (size_t)size);
}

void sim_note_harm(struct sim *s, const char *what, const struct sim_thing *from, uint64_t at,
                   uint64_t size) {
    bool later = false;
    for (size_t i = 0; i < s->ram.things.count && from && !s->boot.harm; i++) {
        const struct sim_thing *t = mos_vec_pointer(&s->ram.things, i);
        if (later && meets(t->span, at, size))
            s->boot.harm =
                mos_printf(s->arena, "The %s (%s) was overwritten by %s before it was used.", what,
                           from->what, t->what);
        later |= t == from;
    }
}

bool sim_kernel_at(struct sim *s, uint64_t at) {
    struct sim_boot *b = &s->boot;
    uint8_t head[MOS_KERNEL_HEAD];
    const struct sim_thing *t = sim_ram_at(s, at);
    uint64_t size = t ? t->span.start + t->span.length - at : 0;
    sim_ram_read(s, at, head, sizeof head);
    b->kernel = at;
    b->kernel_size = size;
    b->kernel_from = t;
    return mos_kernel_read(head, sizeof head, size, &b->header);
}

int sim_refused(struct sim *s) {
    for (const char *const *refused = s->rig->refused; refused && *refused; refused++)
        if (s->entry && strcmp(*refused, s->entry) == 0)
            return sim_trouble(s, "entry %s is not started here: what comes next?", s->entry);
    return 0;
}

static void note_ram(struct sim *s) {
    const struct sim_boot *b = &s->boot;
    const struct {
        const char *what;
        const struct sim_thing *from;
        struct mos_ram_span span;
    } uses[] = {{"kernel", b->kernel_from, {b->runs_at, b->runs_size}},
                {"tree", b->tree_from, {b->tree, b->tree_size}},
                {"ramdisk", b->ramdisk_from, {b->ramdisk, b->ramdisk_size}}};
    s->out->ram.count = 0;
    for (size_t i = 0; i < 3; i++)
        if (uses[i].span.length)
            *(struct mos_ram_use *)mos_vec_push(&s->out->ram) = (struct mos_ram_use){
                uses[i].from ? mos_printf(s->arena, "%s (%s)", uses[i].what, uses[i].from->what)
                             : uses[i].what,
                uses[i].what, uses[i].span, uses[i].from ? uses[i].from->file : NULL};
}

void sim_hand(struct sim *s, const char *arguments) {
    assert(arguments && s->stop == SIM_GOES_ON);
    struct sim_boot *b = &s->boot;
    b->arguments = mos_strdup(s->arena, arguments);
    s->out->kernel = b->header;
    note_ram(s);
    sim_event(s, MOS_EVENT_HAND, b->runs_at, b->runs_size, NULL, "%s",
              b->kernel_from ? b->kernel_from->what : "the kernel");
    s->stop = SIM_STARTED;
}
