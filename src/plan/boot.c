/* Steps 4 and 5: placements in RAM, kernel arguments, the boot script. */
#include "plan/steps.h"

#include "base/bytes.h"
#include "base/text.h"
#include "store/store.h"

#include <assert.h>
#include <ctype.h>
#include <stdlib.h>
#include <string.h>

static void find_ram(struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    if (!h || !h->ram.count)
        return;
    const struct mos_ram *ram = h->ram.items[0];
    uint64_t start, least;
    if (ram->r.broken || !mos_ram_least(ram, &start, &least))
        return;
    plan->ram = (struct mos_ram_map){start, least, start + least};
    plan->has_ram = true;
    for (size_t i = 0; i < h->held.count; i++) {
        const struct mos_held *held = h->held.items[i];
        if (mos_has(held->top) && held->top->number < least)
            plan->ram.top = mos_min(plan->ram.top, plan->ram.start + least - held->top->number);
    }
}

/* ---- arguments ---- */

const struct mos_region_plan *mos_plan_region(const struct mos_plan *plan, const char *name) {
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            if (!r->copy && strcmp(r->name, name) == 0)
                return r;
        }
    }
    return NULL;
}

bool mos_plan_has_slots(const struct mos_plan *plan, const char *name) {
    struct mos_arena *arena = plan->ctx->arena;
    return mos_plan_region(plan, mos_printf(arena, "%s-a", name)) &&
           mos_plan_region(plan, mos_printf(arena, "%s-b", name));
}

const char *mos_plan_partition_name(const struct mos_plan *plan, const char *name) {
    const struct mos_region_plan *r = mos_plan_region(plan, name);
    if (!r || !r->number)
        return NULL;
    return mos_printf(plan->ctx->arena, "PARTUUID=%s", r->id_text);
}

const char *mos_plan_meaning(struct mos_plan *plan, const char *name) {
    if (strcmp(name, "console") == 0)
        return mos_board_console(plan->board, plan->ctx->arena);
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        if (mos_plan_is_flash(m) && strcmp(m->name, name) == 0)
            return mos_plan_flash_string(plan, m);
    }
    return mos_plan_partition_name(plan, name);
}

static void unknown_name(struct mos_plan *plan, const struct mos_value *v, size_t at, size_t length,
                         const char *name) {
    struct mos_findings *list = &plan->ctx->findings;
    const struct mos_region_plan *r = mos_plan_region(plan, name);
    struct mos_finding *f;
    struct mos_place place = v->place;
    if (place.length >= strlen(v->text)) { /* point at the name, behind a quotation mark if any */
        place.offset += at + (place.length > strlen(v->text));
        place.length = length;
    }
    if (r) {
        f = mos_find(list, MOS_RULE_BOOT_ROOT_UNKNOWN,
                     "<%s> is no partition, so the kernel cannot be told about it.", name);
        mos_finding_at(list, f, place);
        mos_finding_at(list, f, r->def->r.key_place);
        mos_finding_try(list, f, "Give region %s a number in the partition table.", name);
        return;
    }
    f = mos_find(list, MOS_RULE_BOARD_REFERENCE, "There is nothing called <%s>.", name);
    mos_finding_at(list, f, place);
    const char *names[64];
    size_t count = 0;
    if (strcmp(name, "console") == 0) {
        bool none = mos_board_is_mute(plan->board);
        if (none)
            mos_finding_at(list, f, plan->board->hardware->console->port->place);
        mos_finding_why(list, f,
                        none ? "The board says that it has no console."
                             : "The board does not say what its console is.");
        mos_finding_try(list, f,
                        none ? "Remove <console>, or add hardware: {console: {port: …}}."
                             : "Add hardware: {console: {port: ttyAMA0, baud: 115200}}.");
        return;
    }
    names[count++] = "console";
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count && count < 64; i++)
            names[count++] = ((struct mos_region_plan *)mos_vec_pointer(&medium->regions, i))->name;
    }
    const char *near = mos_near(name, names, count);
    if (near)
        mos_finding_try(list, f, "Write <%s>.", near);
    else
        mos_finding_try(list, f, "Write the name of a region, or console.");
}

/* Does `<` begin a name here, and is no other sign?  Names are as in definitions. */
static const char *name_end(const char *open) {
    size_t n = strspn(open + 1, "abcdefghijklmnopqrstuvwxyz0123456789-_."
                                "ABCDEFGHIJKLMNOPQRSTUVWXYZ");
    return n && isalnum((unsigned char)open[1]) && open[n + 1] == '>' ? open + n + 1 : NULL;
}

/* Puts in what each <name> stands for; false when one is not known. */
static bool expand(struct mos_plan *plan, const struct mos_value *v, struct mos_buf *out) {
    const char *p = v->text;
    while (*p) {
        const char *open = strchr(p, '<'), *close = NULL;
        while (open && !(close = name_end(open)))
            open = strchr(open + 1, '<');
        if (!close) {
            mos_buf_text(out, p);
            return true;
        }
        const char *name = mos_strndup(plan->ctx->arena, open + 1, (size_t)(close - open) - 1);
        const char *text = mos_plan_meaning(plan, name);
        if (!text) {
            unknown_name(plan, v, (size_t)(open - v->text), (size_t)(close - open) + 1, name);
            return false;
        }
        mos_buf_add(out, p, (size_t)(open - p));
        mos_buf_text(out, text);
        p = close + 1;
    }
    return true;
}

static bool write_arguments(struct mos_plan *plan, const struct mos_boot_entry *e,
                            struct mos_buf *out) {
    bool ok = true;
    for (size_t i = 0; i < e->arguments.count; i++) {
        const struct mos_argument *a = e->arguments.items[i];
        for (size_t k = 0; k < a->values.count; k++) {
            if (!mos_has(a->values.items[k]))
                continue;
            mos_buf_printf(out, "%s%s=", out->length ? " " : "", a->r.name);
            ok &= expand(plan, a->values.items[k], out);
        }
    }
    for (size_t i = 0; i < e->flags.count; i++)
        if (mos_has(e->flags.items[i]))
            mos_buf_printf(out, "%s%s", out->length ? " " : "", e->flags.items[i]->text);
    return ok;
}

static void find_root(struct mos_plan *plan, struct mos_entry_plan *e) {
    const struct mos_argument *a = mos_named_get(&e->def->arguments, "root");
    if (!a || a->values.count != 1 || !mos_has(a->values.items[0]))
        return;
    const char *text = a->values.items[0]->text;
    size_t n = strlen(text);
    if (n > 2 && text[0] == '<' && text[n - 1] == '>')
        e->root = mos_plan_region(plan, mos_strndup(plan->ctx->arena, text + 1, n - 2));
}

/* References in the values of environments: the layout had to be known for them. */
static void expand_environment(struct mos_plan *plan, struct mos_environment_plan *e) {
    bool any = false;
    for (size_t i = 0; i < e->def->values.count; i++) {
        const struct mos_variable *v = e->def->values.items[i];
        struct mos_buf text = {.arena = plan->ctx->arena};
        if (!mos_has(v->value) || !strchr(v->value->text, '<') || !expand(plan, v->value, &text))
            continue;
        mos_variables_set(plan->ctx->arena, &e->variables, v->r.name, mos_buf_string(&text),
                          v->value->place);
        any = true;
    }
    if (any)
        e->needed = plan->dialect->stored->size(&e->variables, e->flag_byte);
}

/* ---- entries ---- */

static void give(const struct mos_value *address, const struct mos_record *entry, const char *what,
                 struct mos_placement *p) {
    p->what = what;
    p->place = entry->key_place;
    if (!mos_has(address))
        return;
    p->given = true;
    p->ranges[MOS_RANGE_LOADED].start = address->number;
    p->place = address->place;
}

const struct mos_loader_variable *mos_plan_loader_variable(const struct mos_plan *plan,
                                                           const char *name) {
    const struct mos_loader_variable *v = NULL;
    for (size_t i = 0; name && i < plan->environments.count && !v; i++)
        v = mos_map_get(
            &((struct mos_environment_plan *)mos_vec_pointer(&plan->environments, i))->variables,
            name);
    return v || !name || !plan->has_defaults ? v : mos_map_get(&plan->defaults, name);
}

/* A number as the loader reads it in a variable: hexadecimal. */
static bool hexadecimal(const struct mos_plan *plan, const char *name, uint64_t *out) {
    const struct mos_loader_variable *v = name ? mos_plan_loader_variable(plan, name) : NULL;
    char *end;
    if (!v || !*v->value)
        return false;
    *out = strtoull(v->value, &end, 16);
    return !*end;
}

/* Trees and ramdisks are put below this; 0: anywhere. */
static uint64_t bound(const struct mos_plan *plan) {
    assert(plan->dialect);
    const struct mos_loader_symbols *n = &plan->dialect->symbols;
    const struct mos_setting *s = mos_plan_loader_symbol(plan, n->bound_map_symbol);
    uint64_t from = plan->ram.start, size = 0, end;
    hexadecimal(plan, n->bound_from, &from);
    if (!hexadecimal(plan, n->bound_map, &size)) {
        size = s ? strtoull(s->value, NULL, 0) : 0;
        if (!size)
            hexadecimal(plan, n->bound_size, &size);
    }
    return size && mos_add(from, size, &end) ? end : 0;
}

/* A menu is loaded where the loader's variables say; its limits hold for every way to boot. */
static void ask_loader(struct mos_plan *plan, size_t thing, struct mos_placement *p) {
    const struct mos_hardware *h = plan->board->hardware;
    uint64_t value;
    if (mos_board_is_direct(plan->board))
        p->stays = true;
    if (!plan->dialect || p->stays)
        return;
    const struct mos_loader_symbols *symbols = &plan->dialect->symbols;
    const struct mos_loader_variable *at =
        mos_plan_loader_variable(plan, symbols->address_of[thing]);
    const struct mos_loader_variable *limit =
        mos_plan_loader_variable(plan, symbols->limit_of[thing]);
    if (mos_board_is_via(plan->board, MOS_VIA_MENU) && at &&
        mos_address_parse(at->value, &value) == MOS_NUMBER_OK) {
        p->given = p->by_loader = true;
        p->ranges[MOS_RANGE_LOADED].start = value;
        p->place = at->place.source ? at->place : p->place;
    }
    if (thing && !limit)
        p->limit = bound(plan);
    p->stays = !plan->dialect->moves;
    if (limit && mos_address_parse(limit->value, &value) == MOS_NUMBER_OK && value) {
        bool wide = h && mos_has(h->cpu) && strstr(h->cpu->text, "64");
        p->stays = value == (wide ? UINT64_MAX : UINT32_MAX);
        p->limit = p->stays ? 0 : value;
    }
}

/* A menu leaves it to the loader's variables where a compressed kernel is expanded. */
static void ask_expansion(struct mos_plan *plan, struct mos_entry_plan *e) {
    uint64_t value;
    if (!plan->dialect || !e->header.compression || !mos_board_is_via(plan->board, MOS_VIA_MENU))
        return;
    const struct mos_loader_variable *at =
        mos_plan_loader_variable(plan, plan->dialect->symbols.expands_to);
    if (at && mos_address_parse(at->value, &value) == MOS_NUMBER_OK)
        e->step.kernel.ranges[MOS_RANGE_MOVED].start = value;
}

static void settle(struct mos_plan *plan, struct mos_entry_plan *e) {
    const struct mos_entry_addresses *a = e->def->addresses;
    struct mos_boot_step *s = &e->step;
    bool by_header = s->kernel.given; /* a stage goes by it */
    give(a ? a->kernel : NULL, &e->def->r, "kernel", &s->kernel);
    s->kernel.given |= by_header;
    give(a ? a->tree : NULL, &e->def->r, "tree", &s->tree);
    give(a ? a->ramdisk : NULL, &e->def->r, "ramdisk", &s->ramdisk);
    struct mos_placement *const things[] = {&s->kernel, &s->tree, &s->ramdisk};
    for (size_t i = 0; i < 3; i++)
        ask_loader(plan, i, things[i]);
    if (!plan->has_ram || !e->kernel_known || (e->tree && !e->tree->tree) ||
        (e->ramdisk && !mos_plan_is_there(e->ramdisk)))
        return;
    uint64_t tree = e->tree ? e->tree->blob.length : 0;
    for (size_t i = 0; i < plan->boot_overlays.count && tree; i++) /* what it may grow by */
        tree +=
            2 * ((struct mos_overlay_plan *)mos_vec_pointer(&plan->boot_overlays, i))->blob.length;
    for (size_t i = 0; i < plan->tree_choices.count; i++) /* the largest that may be chosen */
        tree = mos_max(
            tree, ((struct mos_blob_plan *)mos_vec_pointer(&plan->tree_choices, i))->blob.length);
    struct mos_loads loads = {.header = &e->header,
                              .kernel = e->kernel->size,
                              .tree = tree,
                              .ramdisk = e->ramdisk ? e->ramdisk->size : 0,
                              .in_parcel = mos_board_is_via(plan->board, MOS_VIA_PARCEL),
                              .tree_out = plan->boot_overlays.count != 0};
    ask_expansion(plan, e);
    mos_placement_settle(&plan->ram, &loads, &s->kernel, &s->tree, &s->ramdisk);
    if (e->header.compression && !e->header.wrapped && !loads.in_parcel)
        s->packed_size = e->kernel->size;
    e->settled = true;
}

static struct mos_blob_plan *blob_of(const struct mos_plan *plan, const struct mos_value *v) {
    for (size_t i = 0; i < plan->blobs.count && mos_has(v); i++) {
        struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, i);
        if (b->def == v->target)
            return b;
    }
    return NULL;
}

static void find_choices(struct mos_plan *plan) {
    const struct mos_boot *b = plan->board->boot;
    for (size_t i = 0; b && b->trees && i < b->trees->values.count; i++) {
        struct mos_blob_plan *blob =
            blob_of(plan, ((const struct mos_tree_choice *)b->trees->values.items[i])->blob);
        if (!blob || !blob->tree) { /* it has its finding */
            plan->tree_choices.count = 0;
            return;
        }
        mos_vec_push_pointer(&plan->tree_choices, blob);
    }
}

static const char *boot_file(struct mos_plan *plan, const char *name) {
    return mos_path_join(plan->ctx->arena, plan->boot_prefix ? plan->boot_prefix : "", name);
}

/* What only the whole kernel tells is kept by its hash. */
static bool measure_kernel(struct mos_plan *plan, struct mos_entry_plan *e) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_kernel_facts facts;
    char hex[65], *data;
    size_t length;
    if (!mos_plan_hash(plan, e->kernel))
        return false;
    mos_sha256_hex(e->kernel->sha256, hex);
    const char *key = mos_printf(ctx->arena, "kernel-%s-%zu", hex, sizeof facts);
    if (mos_store_get(ctx, key, &data, &length) && length == sizeof facts) {
        memcpy(&facts, data, sizeof facts);
        if (facts.head_length <= sizeof facts.head)
            return mos_kernel_apply(&e->header, &facts);
    }
    const uint8_t *bytes = mos_plan_piece_bytes(plan, e->kernel);
    if (!bytes || !mos_kernel_measure(ctx, bytes, (size_t)e->kernel->size, &e->header, &facts))
        return false;
    mos_store_put(ctx, key, &facts, sizeof facts);
    return mos_kernel_apply(&e->header, &facts);
}

static bool read_kernel(struct mos_plan *plan, struct mos_entry_plan *e) {
    const struct mos_piece_plan *p = e->kernel;
    if (!mos_kernel_read(p->head, p->head_length, p->size, &e->header))
        return false;
    bool whole = e->header.compression || e->header.wrapped || e->header.form == MOS_KERNEL_ZIMAGE;
    return !whole || measure_kernel(plan, e);
}

static struct mos_entry_plan *plan_entry(struct mos_plan *plan, const struct mos_boot_entry *def) {
    struct mos_entry_plan *e = mos_alloc(plan->ctx->arena, sizeof *e);
    e->def = def;
    const struct mos_value *kernel = def->kernel;
    if (!kernel && plan->board->kernel)
        kernel = plan->board->kernel->image;
    e->kernel = mos_has(kernel) ? mos_plan_piece(plan, kernel->target) : NULL;
    e->ramdisk = mos_has(def->ramdisk) ? mos_plan_piece(plan, def->ramdisk->target) : NULL;
    e->tree = blob_of(plan, def->tree);
    if (mos_plan_is_there(e->kernel))
        e->kernel_known = read_kernel(plan, e) && e->header.form;
    struct mos_buf arguments = {.arena = plan->ctx->arena};
    write_arguments(plan, def, &arguments);
    find_root(plan, e);
    e->step.name = def->r.name;
    e->step.arguments = mos_buf_string(&arguments);
    e->step.command =
        plan->starter ? plan->starter->starts[e->kernel_known ? e->header.form : MOS_KERNEL_IMAGE]
                      : NULL;
    if (mos_board_is_direct(plan->board))
        mos_plan_direct(plan, e, blob_of(plan, def->tree));
    if (e->kernel)
        e->step.kernel_file = boot_file(plan, e->kernel->def->r.name);
    if (e->tree)
        e->step.tree_file =
            boot_file(plan, mos_printf(plan->ctx->arena, "%s.dtb", e->tree->def->r.name));
    if (e->ramdisk)
        e->step.ramdisk_file = boot_file(plan, e->ramdisk->def->r.name);
    settle(plan, e);
    return e;
}

/* Trees that a variable chooses, as the script names them. */
static void write_choices(struct mos_plan *plan) {
    const struct mos_tree_choices *c = plan->board->boot->trees;
    struct mos_arena *arena = plan->ctx->arena;
    if (!c || !mos_has(c->variable))
        return;
    const char **values = mos_alloc_array(arena, c->values.count + 1, sizeof *values);
    const char **files = mos_alloc_array(arena, c->values.count + 1, sizeof *files);
    for (size_t i = 0; i < plan->tree_choices.count; i++) {
        const struct mos_blob_plan *b = mos_vec_pointer(&plan->tree_choices, i);
        values[i] = ((const struct mos_record *)c->values.items[i])->name;
        files[i] = boot_file(plan, mos_printf(arena, "%s.dtb", b->def->r.name));
    }
    plan->script.tree_variable = c->variable->text;
    plan->script.tree_values = values;
    plan->script.tree_files = files;
    plan->script.tree_count = plan->tree_choices.count;
}

/* Overlays are read behind everything else that is loaded. */
static void write_overlays(struct mos_plan *plan) {
    struct mos_arena *arena = plan->ctx->arena;
    const char **files = mos_alloc_array(arena, plan->boot_overlays.count + 1, sizeof *files);
    const char **variables = mos_alloc_array(arena, plan->boot_overlays.count + 1, sizeof *files);
    const char **values = mos_alloc_array(arena, plan->boot_overlays.count + 1, sizeof *files);
    uint64_t room = 0, end = plan->ram.start;
    for (size_t i = 0; i < plan->boot_overlays.count; i++) {
        const struct mos_overlay_plan *o = mos_vec_pointer(&plan->boot_overlays, i);
        files[i] = boot_file(plan, mos_printf(arena, "%s.dtbo", o->def->r.name));
        room += 2 * o->blob.length;
        variables[i] = mos_text_or(o->def->one_of, NULL);
        values[i] = o->def->r.name;
    }
    plan->script.overlay_files = files;
    plan->script.overlay_variables = variables;
    plan->script.overlay_values = values;
    plan->script.overlay_count = plan->boot_overlays.count;
    plan->script.overlay_room = mos_round_up(room + 4096, 4096);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_boot_step *s =
            &((struct mos_entry_plan *)mos_vec_pointer(&plan->entries, i))->step;
        const struct mos_ram_span spans[] = {
            s->kernel.ranges[MOS_RANGE_LOADED], s->kernel.ranges[MOS_RANGE_FINAL],
            s->tree.ranges[MOS_RANGE_LOADED], s->ramdisk.ranges[MOS_RANGE_LOADED]};
        for (size_t k = 0; k < 4; k++)
            end = mos_max(end, spans[k].start + spans[k].length);
    }
    plan->script.overlay_at = mos_round_up(end + plan->script.overlay_room, 2 << 20);
}

static void set_variable(void *self, const char *name, const char *value) {
    struct mos_plan *plan = self;
    for (size_t i = 0; i < plan->environments.count; i++) {
        struct mos_environment_plan *e = mos_vec_pointer(&plan->environments, i);
        const struct mos_loader_variable *there = mos_map_get(&e->variables, name);
        if (there && mos_named_get(&e->def->values, name))
            continue; /* the user's own comes first */
        mos_variables_set(plan->ctx->arena, &e->variables, name, value,
                          plan->board->boot->r.key_place);
        e->needed = plan->dialect->stored->size(&e->variables, e->flag_byte);
    }
}

/* In the form that the loader is given: a script, a menu, a parcel with its script, variables. */
static void write_for_loader(struct mos_plan *plan) {
    assert(!plan->lacks_way);
    const struct mos_dialect *d = plan->dialect;
    if (mos_board_is_via(plan->board, MOS_VIA_MENU)) {
        d->write_menu(&plan->script, &plan->menu_text);
        return;
    }
    if (mos_board_is_via(plan->board, MOS_VIA_ENVIRONMENT)) {
        d->write_variables(&plan->script, plan->ctx->arena, set_variable, plan);
        return;
    }
    if (mos_board_is_via(plan->board, MOS_VIA_PARCEL) && !mos_plan_parcel(plan))
        return;
    d->write_script(&plan->script, &plan->script_text);
    d->wrap_script(&plan->script, mos_buf_string(&plan->script_text), plan->script_text.length,
                   &plan->script_file);
}

/* The region of a flash that holds a piece, or a tree. */
static const struct mos_region_plan *raw_region(const struct mos_medium_plan *medium,
                                                const struct mos_piece_plan *piece,
                                                const struct mos_blob_plan *blob) {
    for (size_t i = 0; i < medium->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
        bool holds =
            piece ? r->piece == piece : mos_has(r->def->tree) && r->def->tree->target == blob->def;
        if (holds && r->placed && !r->copy)
            return r;
    }
    return NULL;
}

static bool find_raw(const struct mos_medium_plan *medium, const struct mos_piece_plan *piece,
                     const struct mos_blob_plan *blob, struct mos_raw_span *span) {
    const struct mos_region_plan *r = raw_region(medium, piece, blob);
    if (!r)
        return false;
    *span = (struct mos_raw_span){r->start + r->content_at, mos_max(r->content, 1)};
    return true;
}

/* What a stage reads lies in regions of one medium, of whatever kind. */
static void find_direct(struct mos_plan *plan) {
    struct mos_entry_plan *e = plan->entries.count == 1 ? mos_vec_pointer(&plan->entries, 0) : NULL;
    for (size_t m = 0; e && e->kernel && e->tree && m < plan->media.count && !plan->boots_raw;
         m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        plan->boots_raw = !medium->area && find_raw(medium, e->kernel, NULL, &e->step.kernel_raw) &&
                          find_raw(medium, NULL, e->tree, &e->step.tree_raw);
        plan->boot_medium = plan->boots_raw ? medium : plan->boot_medium;
    }
}

static bool lies_raw(const struct mos_medium_plan *medium, struct mos_entry_plan *e) {
    struct mos_boot_step *s = &e->step;
    return e->kernel && find_raw(medium, e->kernel, NULL, &s->kernel_raw) &&
           (!e->tree || find_raw(medium, NULL, e->tree, &s->tree_raw)) &&
           (!e->ramdisk || find_raw(medium, e->ramdisk, NULL, &s->ramdisk_raw));
}

/* Without a volume of boot files: does all of it lie in regions of one flash? */
static void find_raw_boot(struct mos_plan *plan) {
    if (plan->boot_region || plan->boot_overlays.count || plan->tree_choices.count)
        return; /* those are files */
    for (size_t m = 0; m < plan->media.count && !plan->boots_raw; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        size_t good = 0;
        for (size_t i = 0; mos_plan_is_flash(medium) && i < plan->entries.count; i++)
            good += lies_raw(medium, mos_vec_pointer(&plan->entries, i));
        plan->boots_raw = good && good == plan->entries.count;
        plan->boot_medium = plan->boots_raw ? medium : plan->boot_medium;
    }
}

/* Addresses are worked out from where RAM is; a menu leaves them to the loader's variables. */
static void tell_no_ram(struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    struct mos_findings *list = &plan->ctx->findings;
    if (h && (h->r.broken || h->ram.count)) /* then it was said what is wrong with it */
        return;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOARD_SCHEMA,
                 "Board %s does not say where its RAM is, and has entries to load there.",
                 plan->board->r.name);
    mos_finding_at(list, f, plan->board->boot->r.key_place);
    if (h)
        mos_finding_at(list, f, h->r.key_place);
    mos_finding_why(list, f, "Without it nothing could be written for the loader to start.");
    mos_finding_try(list, f, "Add hardware: {ram: {main: {start: 0x40000000, sizes: [512 MiB]}}}.");
}

static void write_script(struct mos_plan *plan) {
    assert(plan->boot_medium && plan->dialect);
    struct mos_boot_step *steps =
        mos_alloc_array(plan->ctx->arena, plan->entries.count, sizeof *steps);
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        bool unplaced = !plan->has_ram && e->kernel_known;
        if (!e->settled && !(unplaced && mos_board_is_via(plan->board, MOS_VIA_MENU))) {
            if (unplaced)
                tell_no_ram(plan);
            return;
        }
        steps[i] = e->step;
    }
    const struct mos_boot *b = plan->board->boot;
    plan->script =
        (struct mos_boot_script){.board = plan->board->r.name,
                                 .device = mos_plan_in_loader(plan, plan->boot_medium->medium),
                                 .partition = plan->boot_region ? plan->boot_region->number : 0,
                                 .steps = steps,
                                 .count = plan->entries.count,
                                 .date = plan->board->date,
                                 .tries = mos_has(b->tries) ? (unsigned)b->tries->number : 0,
                                 .resets = mos_otherwise_of(b->otherwise) == MOS_OTHERWISE_RESET,
                                 .timeout = mos_has(b->timeout) ? (unsigned)b->timeout->number : 0};
    write_choices(plan);
    write_overlays(plan);
    write_for_loader(plan);
}

void mos_plan_boot(struct mos_plan *plan) {
    find_ram(plan);
    for (size_t i = 0; i < plan->environments.count; i++)
        expand_environment(plan, mos_vec_pointer(&plan->environments, i));
    const struct mos_boot *b = plan->board->boot;
    find_choices(plan);
    for (size_t i = 0; b && i < b->entries.count; i++)
        mos_vec_push_pointer(&plan->entries, plan_entry(plan, b->entries.items[i]));
    if (mos_board_is_direct(plan->board)) {
        mos_plan_tree_regions(plan); /* they have arguments now */
        find_direct(plan);
        return;
    }
    find_raw_boot(plan);
    bool raw = plan->boots_raw && mos_board_is_via(plan->board, MOS_VIA_ENVIRONMENT);
    if (plan->entries.count && (plan->boot_region || raw) && plan->dialect && !plan->lacks_way)
        write_script(plan);
}

const struct mos_region_plan *mos_plan_root(const struct mos_plan *plan) {
    const struct mos_entry_plan *e =
        plan->entries.count ? mos_vec_pointer(&plan->entries, 0) : NULL;
    if (e && e->root)
        return e->root;
    const struct mos_system *s = plan->board->system;
    for (size_t i = 0; s && i < s->mounts.count; i++) {
        const struct mos_mount *m = s->mounts.items[i];
        if (mos_has(m->at) && strcmp(m->at->text, "/") == 0)
            return mos_plan_region(plan, m->r.name);
    }
    return NULL;
}
