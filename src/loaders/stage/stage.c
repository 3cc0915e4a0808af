/* No loader at all: the stage before it reads kernel and tree from their places and starts them. It
 * has no language, chooses nothing and changes nothing. */
#include "loaders/loaders.h"
#include "rehearse/sim.h"

#include <string.h>

enum { MOST_READ = 256 << 20 };

static const struct mos_rig_medium *medium_of(const struct sim *s) {
    for (size_t i = 0; i < s->rig->media_count; i++)
        if (strcmp(s->rig->media[i].name, s->rig->direct->medium) == 0)
            return &s->rig->media[i];
    return NULL;
}

/* Bytes of the medium to where the stage was built to put them. */
static const struct sim_thing *fetch(struct sim *s, const char *what, struct mos_ram_span from,
                                     uint64_t to) {
    const struct mos_rig_medium *m = medium_of(s);
    uint8_t *bytes = from.length <= MOST_READ ? mos_alloc(s->arena, (size_t)from.length) : NULL;
    if (!m || !bytes || mos_io_read(m->io, bytes, (size_t)from.length, from.start)) {
        sim_trouble(s, "the %s cannot be read", what);
        return NULL;
    }
    if (!sim_ram_is(s, to, from.length)) {
        sim_trouble(s, "there is no RAM for the %s at 0x%llx", what, (unsigned long long)to);
        return NULL;
    }
    sim_event(s, MOS_EVENT_READ, to, from.length, m->name, "%s", what);
    struct sim_thing *t = sim_ram_claim(s, to, from.length, what);
    sim_ram_write(s, to, bytes, (size_t)from.length);
    return t;
}

/* What stands behind a header goes where that says. */
static bool unwrap(struct sim *s) {
    enum { HEADER = 64 };
    struct sim_boot *b = &s->boot;
    const struct sim_thing *from = b->kernel_from;
    uint64_t load = b->header.load, payload = b->kernel + HEADER;
    if (load != payload)
        sim_move(s, payload, load, b->kernel_size - HEADER, "kernel");
    bool known = sim_kernel_at(s, load) && !b->header.wrapped;
    b->kernel_from = from;
    return known || sim_trouble(s, "behind the kernel's header is nothing that starts") == 0;
}

static bool take_kernel(struct sim *s, uint64_t at) {
    struct sim_boot *b = &s->boot;
    if (!sim_kernel_at(s, at))
        return sim_trouble(s, "the kernel has no header that could be started") == 0;
    sim_note_harm(s, "kernel", b->kernel_from, at, b->kernel_size); /* it may be moved now */
    if (b->header.wrapped && !unwrap(s))
        return false;
    if (b->header.compression)
        return sim_trouble(s, "the kernel is compressed, and a stage expands nothing") == 0;
    b->runs_at = b->kernel;
    b->runs_size = b->header.running_size;
    if (b->header.form == MOS_KERNEL_ZIMAGE) { /* it expands itself */
        struct mos_kernel_facts facts;
        const uint8_t *bytes = sim_ram_copy(s, b->kernel, b->kernel_size, MOST_READ);
        b->runs_size = b->kernel_size;
        if (bytes && mos_kernel_measure(s->ctx, bytes, (size_t)b->kernel_size, &b->header, &facts))
            mos_kernel_apply(&b->header, &facts);
    }
    return true;
}

static void wake(struct sim *s) {
    s->env = mos_map_make(s->arena);
}

static void start(struct sim *s) {
    const struct mos_rig_direct *d = s->rig->direct;
    struct sim_boot *b = &s->boot;
    if (!d) {
        sim_undecided(s, "what the stage reads, and from where");
        return;
    }
    sim_try(s, d->entry);
    if (!fetch(s, "kernel", d->kernel, d->kernel_to))
        return;
    const struct sim_thing *tree = fetch(s, "tree", d->tree, d->tree_to);
    if (!tree || !take_kernel(s, d->kernel_to) || sim_refused(s))
        return;
    b->tree = d->tree_to;
    b->tree_size = d->tree.length;
    b->tree_from = tree;
    sim_note_harm(s, "tree", tree, b->tree, b->tree_size);
    sim_hand(s, ""); /* the tree has them */
}

static const struct sim_loader simulated = {.wake = wake, .start = start};
static const struct mos_loader_medium media[] = {{"medium", NULL, NULL}, {NULL, NULL, NULL}};

const struct mos_dialect mos_dialect_stage = {
    .name = "stage",
    .starts = {[MOS_KERNEL_IMAGE] = "the stage",
               [MOS_KERNEL_ZIMAGE] = "the stage",
               [MOS_KERNEL_WRAPPED] = "the stage"},
    .media = media,
    .simulated = &simulated,
};
