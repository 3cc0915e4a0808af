/* Past the hand-over: what the kernel finds of its tree, its arguments, its root and its first
 * program.  Reads only what lies in RAM and on the media. */
#include "rehearse/root.h"

#include "base/bytes.h"
#include "base/text.h"
#include "linux/program.h"

#include <stdlib.h>
#include <string.h>

enum { BANNER_BYTES = 64 << 20 };

/* ---- memory ---- */

struct held {
    const char *what;
    struct mos_ram_span span;
};

static bool meet(struct mos_ram_span a, struct mos_ram_span b) {
    return a.length && b.length && a.start < b.start + b.length && b.start < a.start + a.length;
}

/* Where the kernel is once it runs, its zero-initialised tail included. */
static struct mos_ram_span running(struct sim *s) {
    return (struct mos_ram_span){s->boot.runs_at, s->boot.runs_size};
}

/* A compressed 32-bit kernel expands itself to a place behind a multiple of 128 MiB. */
static struct mos_ram_span expanded(struct sim *s) {
    struct sim_boot *b = &s->boot;
    if (!b->header.expanded_size)
        return (struct mos_ram_span){0, 0};
    return (struct mos_ram_span){mos_round_down(b->runs_at, 128 << 20) + b->header.expands_to,
                                 b->header.expanded_size};
}

static void check_memory(struct sim *s) {
    const struct sim_boot *b = &s->boot;
    const struct held things[] = {{"kernel", running(s)},
                                  {"tree", {b->tree, b->tree_size}},
                                  {"ramdisk", {b->ramdisk, b->ramdisk_size}}};
    if (b->harm)
        sim_wrong(s, MOS_END_SILENT, "%s", b->harm);
    for (size_t i = 0; i < 3; i++) {
        const struct held *t = &things[i];
        if (i && meet(t->span, things[0].span))
            sim_wrong(s, MOS_END_SILENT, "The kernel clears its memory over the %s at %s.", t->what,
                      mos_address_text(s->arena, t->span.start));
        if (i && meet(t->span, expanded(s)))
            sim_wrong(s, MOS_END_SILENT, "The kernel expands itself over the %s at %s.", t->what,
                      mos_address_text(s->arena, t->span.start));
    }
    if (things[1].span.length && meet(things[1].span, things[2].span))
        sim_wrong(s, MOS_END_SILENT, "Tree and ramdisk lie over each other.");
}

/* ---- the tree that it gets ---- */

/* What the kernel takes a word for; NULL: nothing that matters to the boot. */
static const char *meaning_of(const char *word) {
    static const struct {
        const char *begins, *means;
    } rows[] = {{"panic=0", "a kernel that dies stays so"},
                {"panic=", "a kernel that dies starts the board again"},
                {"rootwait", "waits for its root, for ever if need be"},
                {"root=", "its root"},
                {"init=", "first program, and no other"},
                {"rdinit=", "first program of the ramdisk"},
                {"console=", "prints there"},
                {"mtdparts=", "partitions of a flash"},
                {"maxcpus=", "uses so many cores"},
                {"mem=", "uses so much RAM"}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (strncmp(word, rows[i].begins, strlen(rows[i].begins)) == 0)
            return rows[i].means;
    if (strcmp(word, "ro") == 0)
        return "mounts the root read-only";
    return strcmp(word, "rw") == 0 ? "mounts the root to write" : NULL;
}

static void tell_arguments(struct sim *s) {
    const char *line = s->boot.arguments;
    for (const char *p = line; *(p += strspn(p, " "));) {
        size_t length = strcspn(p, " ");
        const char *word = mos_strndup(s->arena, p, length), *means = meaning_of(word);
        sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "argument %s%s%s%s", word, means ? "  (" : "",
                  means ? means : "", means ? ")" : "");
        p += length;
    }
    if (!*line)
        sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL, "no arguments");
    if (strstr(line, "${") || strchr(line, '<'))
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL,
                  "the arguments still hold a sign that somebody meant to be replaced");
    size_t most = s->rig->cpu && strcmp(s->rig->cpu, "arm64") == 0 ? 2048 : 1024;
    if (strlen(line) >= most)
        sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL,
                  "the arguments are cut off after %zu characters", most - 1);
}

static void check_tree(struct sim *s) {
    if (!s->boot.tree_size)
        return;
    struct mos_dt *dt = sim_tree(s, s->boot.tree);
    if (!dt) {
        tell_arguments(s);
        sim_wrong(s, MOS_END_SILENT, "The device tree is damaged.");
        return;
    }
    const char *model = mos_dt_string(dt->root, "model");
    const char *compatible = mos_dt_string(dt->root, "compatible");
    s->out->model = model;
    sim_event(s, MOS_EVENT_KERNEL, s->boot.tree, s->boot.tree_size,
              s->boot.tree_from ? s->boot.tree_from->what : NULL, "tree of %s (%s)",
              model ? model : "a board without a model", compatible ? compatible : "?");
    const struct mos_dt_node *chosen = mos_dt_child(dt->root, "chosen");
    const char *own = chosen ? mos_dt_string(chosen, "bootargs") : NULL;
    if (own && *own && !*s->boot.arguments) {
        s->boot.arguments = own;
        sim_event(s, MOS_EVENT_KERNEL, 0, 0, NULL,
                  "%s passes no arguments: those of the tree are used",
                  s->rig->direct ? "the stage" : "the loader");
    }
    size_t memory = 0;
    for (const struct mos_dt_node *n = dt->root->first_child; n; n = n->next) {
        const char *type = mos_dt_string(n, "device_type");
        memory += type && strcmp(type, "memory") == 0;
    }
    if (!memory)
        sim_unknown(s, "that the loader adds the memory node, which the tree has not");
}

/* ---- arguments ---- */

/* ---- is it Linux, and which? ---- */

static const char *release_of(struct sim *s) {
    uint64_t size = mos_min(s->boot.kernel_size, BANNER_BYTES);
    uint64_t run = size;
    const uint8_t *bytes = sim_ram_look(s, s->boot.runs_at, &run);
    const char *banner = bytes ? mos_kernel_banner(s->arena, bytes, (size_t)run) : NULL;
    if (banner || run == size)
        return banner;
    bytes = sim_ram_copy(s, s->boot.runs_at, size, BANNER_BYTES); /* it is in pieces */
    return bytes ? mos_kernel_banner(s->arena, bytes, (size_t)size) : NULL;
}

void sim_kernel(struct sim *s) {
    struct sim_boot *b = &s->boot;
    s->part = MOS_PART_KERNEL;
    s->out->end = MOS_END_BOOTS;
    s->out->reason = NULL;
    s->out->arguments = b->arguments;
    s->out->cause = (struct mos_rehearsal_cause){0};
    s->out->release = s->out->model = s->out->program = NULL;
    s->out->by_ramdisk = s->out->log_in = false;
    if (b->header.cpu && s->rig->cpu && !mos_start_fits(s->rig->cpu, b->header.cpu))
        sim_wrong(s, MOS_END_SILENT, "The kernel is made for %s, the board is %s.", b->header.cpu,
                  s->rig->cpu);
    if (!b->header.form)
        sim_undecided(s, "what kind of program is started: its header is not known");
    if (b->header.held_size < b->header.stated_size)
        sim_wrong(s, MOS_END_SILENT, "The kernel is cut off: %s of %s.",
                  mos_size_about(s->arena, b->header.held_size),
                  mos_size_about(s->arena, b->header.stated_size));
    if (!b->checked)
        sim_unknown(s, "that the kernel's bytes are whole: nothing checks them");
    check_memory(s);
    if (s->out->end != MOS_END_BOOTS)
        return;
    const char *release = release_of(s);
    s->out->release = release;
    sim_event(s, MOS_EVENT_KERNEL, b->runs_at, b->runs_size, NULL, "%s%s%s",
              b->header.format ? b->header.format : "kernel", release ? ", Linux " : "",
              release ? release : "");
    check_tree(s);
    if (s->out->end != MOS_END_BOOTS)
        return;
    tell_arguments(s);
    sim_root(s, release);
}
