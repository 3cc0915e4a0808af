/* bootm: a kernel in a legacy image or a parcel, whole or in the steps that the loader has for it
 * (the text of its command's help; measured on version 2023.01). */
#include "loaders/u-boot/boot.h"

#include "base/bytes.h"
#include "content/content.h"

#include <string.h>

enum { MOST_KERNEL = 256 << 20, LEGACY_KERNEL = 2, LEGACY_MULTI = 4 };

static bool meets(struct mos_ram_span a, uint64_t start, uint64_t length) {
    return a.length && length && start < a.start + a.length && a.start < start + length;
}

/* The payload to where it is to run, expanded on the way. */
static int load_payload(struct sim *s) {
    const struct ub_payload *p = &own(s)->boot.payload;
    const uint8_t *plain = p->data;
    size_t length = p->length;
    const struct sim_thing *t = sim_ram_at(s, p->from);
    if (!p->data) {
        sim_undecided(s, "what bootm starts here: no step before has found it");
        return 1;
    }
    bool packed = p->compression && strcmp(p->compression, "none") != 0;
    if (packed && strcmp(p->compression, "lzo") == 0) {
        sim_undecided(s, "what the kernel is: lzo is not expanded here");
        return 1;
    }
    if (packed) {
        sim_print(s, "   Uncompressing Kernel Image\n");
        const char *kind = mos_compression_of(plain, length);
        if (!kind || strcmp(kind, p->compression) != 0 ||
            !mos_unpack_bytes(s->ctx, &plain, &length, MOST_KERNEL))
            return sim_trouble(s, "%s: uncompress error -1", p->compression);
    } else if (p->from != p->to) {
        sim_print(s, "   Loading Kernel Image\n");
    }
    bool moves = packed || p->from != p->to;
    if (s->rig->most_kernel && length > s->rig->most_kernel && moves)
        return sim_trouble(s, "Image too large: increase CONFIG_SYS_BOOTM_LEN (%llu bytes)",
                           (unsigned long long)s->rig->most_kernel);
    if (s->rig->ram.length && !sim_ram_free(s, p->to, length))
        return sim_trouble(s, "Error: inflate() overwrote image or the loader itself at %llx",
                           (unsigned long long)p->to);
    if (moves) {
        sim_event(s, MOS_EVENT_MOVE, p->to, length, NULL, "the kernel is put in its place");
        if (t && meets((struct mos_ram_span){t->span.start, t->span.length}, p->to, length))
            sim_event(s, MOS_EVENT_OVER, p->to, length, NULL, "the kernel lies over %s", t->what);
        sim_ram_write(s, p->to, plain, length);
        sim_ram_claim(s, p->to, length,
                      t ? mos_printf(s->arena, "kernel in %s", t->what) : "the kernel");
    }
    ub_boot_kernel_at(s, p->to, length);
    if (p->in_parcel && sim_ram_at(s, p->in_parcel))
        s->boot.kernel_from = sim_ram_at(s, p->in_parcel);
    return 0;
}

/* ---- legacy images ---- */

/* The n-th part of an image of several: behind a list of lengths that ends in 0, each part at a
 * multiple of 4.  *length 0: there is none. */
static uint64_t multi_part(struct sim *s, const struct mos_legacy *h, uint64_t at, unsigned n,
                           uint64_t *length) {
    uint64_t start = at + MOS_LEGACY_HEADER, list = start, before = 0;
    uint8_t word[4] = {0};
    unsigned count = 0;
    *length = 0;
    for (;; list += 4, count++) {
        sim_ram_read(s, list, word, 4);
        if (!mos_be32(word) || list - start >= h->size)
            break;
        if (count < n)
            before += mos_round_up(mos_be32(word), 4);
        else if (count == n)
            *length = mos_be32(word);
    }
    return list + 4 + before;
}

static void find_multi_ramdisk(struct sim *s, const struct mos_legacy *h, uint64_t at) {
    struct sim_boot *b = &s->boot;
    sim_print(s, "## Loading init Ramdisk from multi component Legacy Image at %08llx ...\n",
              (unsigned long long)at);
    b->ramdisk = multi_part(s, h, at, 1, &b->ramdisk_size);
    b->ramdisk_from = sim_ram_at(s, at);
}

static int find_multi_tree(struct sim *s, const struct mos_legacy *h, uint64_t at) {
    struct sim_boot *b = &s->boot;
    uint8_t head[8];
    sim_print(s, "## Flattened Device Tree from multi component Image at %08llX\n",
              (unsigned long long)at);
    b->tree = multi_part(s, h, at, 2, &b->tree_size);
    if (!b->tree_size)
        return 0;
    sim_print(s, "   Booting using the fdt at 0x%016llx\n", (unsigned long long)b->tree);
    sim_ram_read(s, b->tree, head, sizeof head);
    bool good = mos_be32(head) == MOS_DT_MAGIC && mos_be32(head + MOS_DT_TOTAL) == b->tree_size;
    if (!good) {
        sim_trouble(s, "ERROR: %s: must RESET the board to recover.",
                    mos_be32(head) == MOS_DT_MAGIC ? "fdt size != image size"
                                                   : "image is not a fdt");
        return sim_trouble(s, "Could not find a valid device tree");
    }
    b->tree_from = sim_ram_at(s, at);
    return 0;
}

int ub_legacy_part(struct sim *s, uint64_t at, unsigned n, uint64_t *from, uint64_t *length) {
    uint8_t head[MOS_LEGACY_HEADER];
    struct mos_legacy h;
    const char *problem;
    sim_ram_read(s, at, head, sizeof head);
    sim_print(s, "## Copying part %u from legacy image at %08llx ...\n", n, (unsigned long long)at);
    if (!mos_legacy_read(head, sizeof head, &h, &problem))
        return sim_trouble(s, "Bad Header Checksum");
    if (h.type != LEGACY_MULTI)
        return sim_trouble(s, "Wrong Image Type for imxtract command");
    sim_print(s, "   Verifying Checksum ... ");
    uint8_t *all = sim_ram_copy(s, at, MOS_LEGACY_HEADER + (uint64_t)h.size, MOST_KERNEL);
    if (!all || !mos_legacy_read(all, MOS_LEGACY_HEADER + h.size, &h, &problem))
        return sim_trouble(s, "Bad Data CRC");
    sim_print(s, "OK\n");
    *from = multi_part(s, &h, at, n, length);
    if (!*length)
        return sim_trouble(s, "Bad Image Part");
    sim_print(s, "   Loading part %u ... OK\n", n);
    return 0;
}

static int no_kernel(struct sim *s) {
    return sim_trouble(s, "ERROR: can't get kernel image!");
}

static int start_legacy(struct sim *s, uint64_t at, const char *ramdisk, const char *tree,
                        const char *command) {
    static const char *const kinds[] = {"none", "gzip", "bzip2", "lzma", "lzo", "lz4", "zstd"};
    struct sim_boot *b = &s->boot;
    uint8_t head[MOS_LEGACY_HEADER];
    struct mos_legacy h;
    const char *problem;
    sim_print(s, "## Booting kernel from Legacy Image at %08llx ...\n", (unsigned long long)at);
    sim_ram_read(s, at, head, sizeof head);
    if (!mos_legacy_read(head, sizeof head, &h, &problem)) {
        sim_trouble(s, "Bad Header Checksum");
        return no_kernel(s);
    }
    ub_list_legacy(s, at, &h);
    sim_print(s, "   Verifying Checksum ... ");
    uint8_t *all = sim_ram_copy(s, at, MOS_LEGACY_HEADER + (uint64_t)h.size, MOST_KERNEL);
    if (!all || !mos_legacy_read(all, MOS_LEGACY_HEADER + h.size, &h, &problem)) {
        sim_trouble(s, "Bad Data CRC");
        return no_kernel(s);
    }
    sim_print(s, "OK\n");
    if (h.type != LEGACY_KERNEL && h.type != LEGACY_MULTI) {
        sim_trouble(s, "Wrong Image Type for %s command", command);
        return no_kernel(s);
    }
    bool multi = h.type == LEGACY_MULTI;
    uint64_t from = at + MOS_LEGACY_HEADER, length = h.size;
    if (multi)
        from = multi_part(s, &h, at, 0, &length);
    if (!length || from - at > MOS_LEGACY_HEADER + (uint64_t)h.size ||
        length > MOS_LEGACY_HEADER + (uint64_t)h.size - (from - at))
        return no_kernel(s);
    own(s)->boot.payload = (struct ub_payload){
        all + (from - at), (size_t)length, from, h.load,
        h.compression < sizeof kinds / sizeof *kinds ? kinds[h.compression] : "?"};
    b->checked = true;
    if (multi && !ramdisk)
        find_multi_ramdisk(s, &h, at);
    else if (ub_boot_ramdisk(s, ramdisk))
        return 1;
    if (multi && !tree) {
        if (find_multi_tree(s, &h, at))
            return 1;
        sim_print(s, "Working FDT set to %llx\n", (unsigned long long)(b->tree_size ? b->tree : 0));
        own(s)->tree_at = b->tree_size ? b->tree : 0;
        return 0;
    }
    if (ub_boot_tree(s, tree))
        return 1;
    ub_boot_tree_found(s);
    return 0;
}

/* ---- parcels ---- */

/* The address in RAM of a part's bytes. */
static uint64_t place_of(const struct mos_parcel *p, const struct mos_parcel_part *part,
                         uint64_t at) {
    return at + (uint64_t)(part->data - p->bytes);
}

/* One payload of a parcel: its hashes; NULL: the loader refuses. */
static const struct mos_parcel_part *take_part(struct sim *s, struct mos_parcel *p, uint64_t at,
                                               const char *name, const char *what) {
    const struct mos_parcel_part *part = mos_parcel_part(p, name);
    const char *names;
    if (!part) {
        sim_trouble(s, "Could not find subimage node type '%s'", what);
        return NULL;
    }
    sim_print(s, "   Trying '%s' %s subimage\n", name, what);
    ub_list_part(s, part, place_of(p, part, at));
    sim_print(s, "   Verifying Hash Integrity ... ");
    if (!mos_parcel_check_part(s->arena, part, &names)) {
        sim_print(s, "%s\n", names);
        sim_trouble(s, "Bad hash of '%s' in the parcel", name);
        sim_trouble(s, "Bad Data Hash");
        return NULL;
    }
    sim_print(s, "%sOK\n", names);
    return part;
}

static const struct mos_dt *keys_of(struct sim *s) {
    const struct mos_rig *m = s->rig;
    struct mos_error error;
    struct mos_ctx quiet = mos_ctx_quiet(s->ctx, &error);
    const uint8_t *bytes = m->keys ? m->keys : m->tree;
    size_t length = m->keys ? m->keys_length : m->tree_length;
    return bytes ? mos_dt_read_blob(&quiet, "keys", bytes, length) : NULL;
}

/* The choice that names what the loader's own tree names first; NULL: none does. */
static const struct mos_parcel_choice *best_choice(struct sim *s, const struct mos_parcel *p) {
    const struct mos_rig *m = s->rig;
    struct mos_error error;
    struct mos_ctx quiet = mos_ctx_quiet(s->ctx, &error);
    const struct mos_dt *own =
        m->tree ? mos_dt_read_blob(&quiet, "own", m->tree, m->tree_length) : NULL;
    const struct mos_dt_property *names = own ? mos_dt_property(own->root, "compatible") : NULL;
    for (size_t at = 0, n; names && at < names->length; at += n + 1) {
        const char *name = (const char *)names->data + at;
        n = strnlen(name, names->length - at);
        for (size_t i = 0; i < p->choices.count && at + n < names->length; i++) {
            const struct mos_parcel_choice *c = mos_vec_at(&p->choices, i);
            if (c->compatible && strcmp(c->compatible, name) == 0)
                return c;
        }
    }
    return NULL;
}

static const struct mos_parcel_choice *take_choice(struct sim *s, struct mos_parcel *p,
                                                   const char *name) {
    bool best = !name && s->rig->picks == MOS_PICKS_BY_TREE;
    const struct mos_parcel_choice *c = best ? best_choice(s, p) : mos_parcel_choice(p, name);
    if (!name && s->rig->picks == MOS_PICKS_UNKNOWN)
        sim_unknown(s, "that the loader takes the parcel's usual configuration: with "
                       "CONFIG_FIT_BEST_MATCH it looks for one that names its own board");
    const char *why;
    if (!c) {
        sim_trouble(s, "Could not find configuration node");
        return NULL;
    }
    sim_print(s, "   Using '%s' configuration\n", c->name);
    s->entry = c->name;
    sim_print(s, "   Verifying Hash Integrity ... ");
    enum mos_parcel_trust trust = mos_parcel_check_choice(s->arena, p, c, keys_of(s), &why);
    if (trust == MOS_PARCEL_REFUSED) {
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "configuration %s: %s", c->name, why);
        sim_trouble(s, "Bad Data Hash");
        return NULL;
    }
    if (trust == MOS_PARCEL_TRUSTED)
        sim_event(s, MOS_EVENT_SAY, 0, 0, NULL, "configuration %s is signed by the required key",
                  c->name);
    sim_print(s, "OK\n");
    return c;
}

/* Overlays of the choice, put over its tree where that was put aside; it gets room for each. */
static int put_overlays(struct sim *s, struct mos_parcel *p, const struct mos_parcel_choice *c,
                        uint64_t at) {
    struct sim_boot *b = &s->boot;
    for (size_t i = 1; i < c->trees.count; i++) {
        const struct mos_parcel_part *part =
            take_part(s, p, at, mos_vec_pointer(&c->trees, i), "fdt");
        if (!part)
            return 1;
        uint8_t total[4];
        b->tree_size += part->length;
        mos_put_be32(total, (uint32_t)b->tree_size);
        sim_ram_write(s, b->tree + 4, total, sizeof total);
        own(s)->tree_at = b->tree;
        const char *const apply[] = {
            "fdt", "apply",
            mos_printf(s->arena, "0x%llx", (unsigned long long)place_of(p, part, at))};
        if (own(s)->command(s, 3, apply))
            return 1;
        sim_event(s, MOS_EVENT_SAY, 0, 0, NULL, "%s is applied to the tree", part->name);
    }
    return 0;
}

/* A tree of the parcel, and the overlays that the choice puts over it. */
static int take_trees(struct sim *s, struct mos_parcel *p, const struct mos_parcel_choice *c,
                      uint64_t at) {
    struct sim_boot *b = &s->boot;
    if (!c->trees.count)
        return 0;
    const struct mos_parcel_part *first = take_part(s, p, at, mos_vec_pointer(&c->trees, 0), "fdt");
    if (!first)
        return 1;
    if (!mos_dt_is_blob(first->data, first->length)) {
        sim_trouble(s, "ERROR: Did not find a cmdline Flattened Device Tree");
        return 1;
    }
    b->tree = place_of(p, first, at);
    b->tree_size = first->length;
    if (first->has_load) {
        b->tree = first->load;
        sim_ram_claim(s, b->tree, b->tree_size, "tree of the parcel");
        sim_ram_write(s, b->tree, first->data, first->length);
    }
    b->tree_from = sim_ram_at(s, b->tree);
    if (c->trees.count > 1 && first->has_load)
        return put_overlays(s, p, c, at);
    for (size_t i = 1; i < c->trees.count; i++)
        if (!take_part(s, p, at, mos_vec_pointer(&c->trees, i), "fdt"))
            return 1;
    if (c->trees.count > 1)
        sim_unknown(s, "that the loader can put the parcel's %zu overlays over its tree",
                    c->trees.count - 1);
    return 0;
}

/* For each kind of part the loader looks the choice up anew. */
static void say_again(struct sim *s, const char *what, const struct mos_parcel_choice *c,
                      uint64_t at) {
    sim_print(s,
              "## Loading %s from FIT Image at %08llx ...\n   Using '%s' configuration\n   "
              "Verifying Hash Integrity ... OK\n",
              what, (unsigned long long)at, c->name);
}

static bool has_sum(const struct mos_parcel_part *part) {
    for (const struct mos_dt_node *n = part->node->first_child; n; n = n->next)
        if (strncmp(n->name, "hash", 4) == 0)
            return true;
    return false;
}

static int start_parcel(struct sim *s, uint64_t at, const char *choice, bool by_part,
                        const char *ramdisk, const char *tree) {
    struct sim_boot *b = &s->boot;
    struct mos_parcel *p = ub_parcel(s, at);
    sim_print(s, "## Loading kernel from FIT Image at %08llx ...\n", (unsigned long long)at);
    if (!p) {
        sim_trouble(s, "Bad FIT image format!");
        return no_kernel(s);
    }
    const struct mos_parcel_choice *c = by_part ? NULL : take_choice(s, p, choice);
    const struct mos_parcel_part *kernel =
        c || by_part ? take_part(s, p, at, by_part ? choice : c->kernel, "kernel") : NULL;
    if (!kernel)
        return no_kernel(s);
    const char *lacks = !kernel->compression ? "compression"
                        : !kernel->cpu       ? "ARCH"
                        : !kernel->has_load  ? "load address"
                                             : NULL;
    if (lacks)
        return sim_trouble(s, "Can't get image %s!", lacks);
    uint64_t from = place_of(p, kernel, at);
    own(s)->boot.payload = (struct ub_payload){kernel->data, kernel->length,      from,
                                               kernel->load, kernel->compression, at};
    b->checked = has_sum(kernel);
    /* what a choice names and the parcel does not have, the loader does without */
    if (c && c->ramdisk && !ramdisk && mos_parcel_part(p, c->ramdisk)) {
        say_again(s, "ramdisk", c, at);
        const struct mos_parcel_part *disk = take_part(s, p, at, c->ramdisk, "ramdisk");
        if (!disk)
            return sim_trouble(s, "Ramdisk image is corrupt or invalid");
        b->ramdisk = place_of(p, disk, at);
        b->ramdisk_size = disk->length;
        b->ramdisk_from = sim_ram_at(s, b->ramdisk);
    } else if (ub_boot_ramdisk(s, ramdisk)) {
        return 1;
    }
    bool has_tree =
        c && !tree && c->trees.count && mos_parcel_part(p, mos_vec_pointer(&c->trees, 0));
    if (has_tree)
        say_again(s, "fdt", c, at);
    if (has_tree && take_trees(s, p, c, at))
        return sim_trouble(s, "Could not find a valid device tree");
    if (ub_boot_tree(s, tree))
        return 1;
    ub_boot_tree_found(s);
    return 0;
}

/* ---- the whole, and its steps ---- */

int ub_bootm_start(struct sim *s, uint64_t at, const char *choice, bool part, const char *ramdisk,
                   const char *tree, const char *command) {
    uint8_t head[MOS_LEGACY_HEADER];
    s->boot = (struct sim_boot){0};
    own(s)->boot = (struct ub_boot){.command = command};
    if (sim_aborts(s, at))
        return 1;
    sim_ram_read(s, at, head, sizeof head);
    if (mos_legacy_is(head, sizeof head))
        return start_legacy(s, at, ramdisk, tree, command);
    if (mos_dt_is_blob(head, sizeof head))
        return start_parcel(s, at, choice, part, ramdisk, tree);
    sim_trouble(s, "Wrong Image Format for %s command", command);
    return no_kernel(s);
}

int ub_boot_container(struct sim *s, uint64_t at, const char *choice, bool part,
                      const char *ramdisk, const char *tree, const char *command) {
    return ub_bootm_start(s, at, choice, part, ramdisk, tree, command) || load_payload(s)
               ? 1
               : ub_boot_go(s);
}

/* Linux on this loader knows neither of two steps. */
static int not_here(struct sim *s) {
    return sim_trouble(s, "subcommand failed (err=-1)");
}

static int load_ramdisk(struct sim *s) {
    struct sim_boot *b = &s->boot;
    if (ub_place_ramdisk(s))
        return 1;
    sim_set_number(s, "initrd_start", b->ramdisk_size ? b->ramdisk : 0);
    sim_set_number(s, "initrd_end", b->ramdisk_size ? b->ramdisk + b->ramdisk_size : 0);
    return 0;
}

int ub_bootm_step(struct sim *s, const char *name, bool *known) {
    static const struct {
        const char *name;
        int (*run)(struct sim *s);
    } steps[] = {{"start", NULL},         {"loados", load_payload}, {"ramdisk", load_ramdisk},
                 {"fdt", ub_place_tree},  {"cmdline", not_here},    {"bdt", not_here},
                 {"prep", ub_place_tree}, {"go", ub_boot_hand}};
    unsigned i = 1;
    while (i < sizeof steps / sizeof *steps && strcmp(steps[i].name, name) != 0)
        i++;
    *known = i < sizeof steps / sizeof *steps;
    if (*known && own(s)->boot.step >= i) {
        sim_print(s, "Trying to execute a command out of order\n");
        *known = false;
    }
    if (!*known)
        return 1;
    own(s)->boot.step = i;
    return steps[i].run(s);
}
