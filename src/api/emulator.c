/* show emulator: one line for a shell that starts what was built in an emulated machine. */
#include "api/run.h"

#include "base/ctx.h"
#include "base/text.h"

#include <assert.h>
#include <string.h>

/* What an emulated machine of each processor is and has. */
static const struct kind {
    enum mos_cpu cpu;
    const char *program, *machine, *processor, *port;
    const char *loader; /* the option that takes one */
    uint64_t most_ram;  /* 0: as much as wished */
} kinds[] = {
    {MOS_CPU_ARM64, "qemu-system-aarch64", "virt", "cortex-a57", "ttyAMA0", "-bios", 0},
    {MOS_CPU_ARM, "qemu-system-arm", "virt", "cortex-a15", "ttyAMA0", "-bios", 2048ull << 20},
    {MOS_CPU_RISCV64, "qemu-system-riscv64", "virt", "rv64", "ttyS0", "-kernel", 0},
    {MOS_CPU_X86_64, "qemu-system-x86_64", "q35", "max", "ttyS0", "-bios", 0},
};

struct starter {
    mosaicum *m;
    const struct mos_plan *plan;
    const struct kind *kind;
    const struct mos_emulator *own; /* NULL: nothing is stated */
    const char *selector, *out;     /* the folder of what was built */
    struct mos_buf notes, first, line;
};

static void note(struct starter *s, const char *text) {
    mos_buf_printf(&s->notes, "# %s\n", text);
}

static void option(struct starter *s, const char *name, const char *value) {
    mos_buf_printf(&s->line, " %s %s", name, mos_shell_word(s->m->arena, value));
}

/* ---- media ---- */

/* A flash that the processor itself starts from, at the end of its memory. */
static bool is_firmware(const struct starter *s, const struct mos_medium_plan *x) {
    const struct mos_rom *rom = s->plan->board->rom;
    const struct mos_first_place *first =
        rom ? mos_named_get(&rom->first_stage, x->medium->r.name) : NULL;
    return s->kind->cpu == MOS_CPU_X86_64 && !x->area && first && mos_true(first->ends_at_top) &&
           mos_medium_kind_of(x->medium->kind) == MOS_MEDIUM_NOR;
}

static const struct mos_medium_plan *firmware(const struct starter *s) {
    for (size_t i = 0; i < s->plan->media.count; i++)
        if (is_firmware(s, mos_vec_pointer(&s->plan->media, i)))
            return mos_vec_pointer(&s->plan->media, i);
    return NULL;
}

static void add_media(struct starter *s) {
    static const char *const devices[] = {[MOS_DISK_VIRTIO] = "virtio-blk-pci,drive=%s",
                                          [MOS_DISK_NVME] = "nvme,drive=%s,serial=%s",
                                          [MOS_DISK_USB] =
                                              "qemu-xhci -device usb-storage,drive=%s"};
    enum mos_disk disk = s->own ? mos_disk_of(s->own->disk) : MOS_DISK_UNSTATED;
    disk = disk == MOS_DISK_UNSTATED ? MOS_DISK_VIRTIO : disk;
    for (size_t i = 0; i < s->plan->media.count; i++) {
        const struct mos_medium_plan *x = mos_vec_pointer(&s->plan->media, i);
        enum mos_medium_kind kind = mos_medium_kind_of(x->medium->kind);
        if (is_firmware(s, x))
            continue;
        if (x->area || kind == MOS_MEDIUM_NOR || kind == MOS_MEDIUM_NAND) {
            note(s,
                 mos_printf(s->m->arena, "%s is not there: an emulated machine has no such medium.",
                            x->name));
            continue;
        }
        const char *image =
            mos_printf(s->m->arena, "if=none,id=%s,format=raw,snapshot=on,file=%s/%s.img", x->name,
                       s->out, x->name);
        option(s, "-drive", image);
        mos_buf_text(&s->line, " -device ");
        mos_buf_printf(&s->line, devices[disk], x->name, x->name);
    }
}

/* ---- how it starts ---- */

/* The console is the machine's; the rest of the arguments stays. */
static const char *arguments(struct starter *s, const char *text) {
    struct mos_buf out = {.arena = s->m->arena};
    bool other = false;
    for (const char *p = text; *p;) {
        size_t n = strcspn(p, " ");
        const char *port = strncmp(p, "console=tty", 11) == 0 ? p + 8 : NULL;
        if (port && strncmp(port, "tty0", 4) != 0 &&
            strncmp(port, s->kind->port, strlen(s->kind->port)) != 0) {
            mos_buf_printf(&out, "%sconsole=%s", out.length ? " " : "", s->kind->port);
            other = true;
        } else if (n) {
            mos_buf_printf(&out, "%s%.*s", out.length ? " " : "", (int)n, p);
        }
        if (strncmp(p, "root=/dev/", 10) == 0)
            note(s,
                 mos_printf(s->m->arena,
                            "%.*s may be called otherwise there: root: <REGION> fits everywhere.",
                            (int)n, p));
        p += n;
        p += strspn(p, " ");
    }
    if (other)
        note(s, mos_printf(s->m->arena, "Its console is %s, not the board's own port.",
                           s->kind->port));
    return mos_buf_string(&out);
}

/* A file of the boot volume into a folder of its own, which goes when the machine ends. */
static void take_out(struct starter *s, const char *path, const char *as) {
    const struct mos_region_plan *r = s->plan->boot_region;
    mos_buf_printf(&s->first, "%smosaicum -q take %s %s -o \"$d/%s\" && ",
                   s->first.length ? "" : "d=$(mktemp -d) && ",
                   mos_shell_word(s->m->arena, mos_printf(s->m->arena, "%s/%s.img", s->out,
                                                          s->plan->boot_medium->name)),
                   mos_shell_word(s->m->arena, mos_printf(s->m->arena, "%u:%s", r->number, path)),
                   as);
}

static bool start_kernel(struct starter *s) {
    const struct mos_plan *plan = s->plan;
    const struct mos_entry_plan *e =
        plan->entries.count ? mos_vec_pointer(&plan->entries, 0) : NULL;
    if (!e || !e->kernel || !plan->boot_region || !plan->boot_region->number || plan->parcel_file)
        return mos_fail(&s->m->error, MOS_ERROR_USAGE, 0,
                        "No kernel of %s can be taken out of its image%s; state "
                        "hardware: {emulator: {loader: PIECE}}",
                        s->selector, plan->parcel_file ? ": it lies in a parcel" : "");
    take_out(s, e->step.kernel_file, "kernel");
    mos_buf_text(&s->line, " -kernel \"$d/kernel\"");
    if (e->ramdisk) {
        take_out(s, e->step.ramdisk_file, "ramdisk");
        mos_buf_text(&s->line, " -initrd \"$d/ramdisk\"");
    }
    option(s, "-append", arguments(s, e->step.arguments));
    note(s,
         "Kernel and arguments are handed over directly: neither loader nor script runs, and the "
         "tree is the machine's own.");
    return true;
}

/* The machine's own first instruction is the flash's last but sixteenth byte. */
static bool start_firmware(struct starter *s, const struct mos_medium_plan *x) {
    option(s, s->kind->loader, mos_printf(s->m->arena, "%s/%s.img", s->out, x->name));
    return true;
}

static bool start_loader(struct starter *s) {
    assert(s->own && s->kind->loader);
    const struct mos_piece_plan *p = mos_plan_piece(s->plan, s->own->loader->target);
    if (!mos_plan_is_there(p) || p->member || !p->file)
        return mos_fail(&s->m->error, MOS_ERROR_USAGE, 0,
                        "Loader %s is no file of the workspace that could be named here",
                        s->own->loader->text);
    option(s, s->kind->loader, mos_path_join(s->m->arena, s->plan->board->root, p->file));
    return true;
}

void show_emulator(mosaicum *m, const struct mos_plan *plan) {
    const struct mos_hardware *h = plan->board->hardware;
    struct mos_buf empty = {.arena = m->arena};
    struct starter s = {
        m,     plan,  NULL, h ? h->emulator : NULL, plan->ctx->findings.selector, NULL,
        empty, empty, empty};
    for (size_t i = 0; h && i < sizeof kinds / sizeof *kinds; i++)
        if (kinds[i].cpu == mos_cpu_of(h->cpu))
            s.kind = &kinds[i];
    if (!s.kind || !plan->has_ram) {
        mos_fail(&m->error, MOS_ERROR_USAGE, 0,
                 "An emulated machine needs hardware: {cpu: …, ram: …} of %s", s.selector);
        return;
    }
    s.out = mos_path_join(m->arena, plan->board->root, mos_printf(m->arena, "out/%s", s.selector));
    uint64_t ram = plan->ram.length;
    if (s.kind->most_ram && ram > s.kind->most_ram)
        ram = s.kind->most_ram;
    mos_buf_printf(&s.line, "%s -machine %s -cpu %s -smp %s -m %lluM -nographic", s.kind->program,
                   s.kind->machine, s.kind->processor, mos_text_or(h->cores, "1"),
                   (unsigned long long)(ram >> 20));
    const struct mos_medium_plan *flash = firmware(&s);
    if (s.own && mos_has(s.own->loader) ? !start_loader(&s)
        : flash                         ? !start_firmware(&s, flash)
                                        : !start_kernel(&s))
        return;
    add_media(&s);
    option(&s, "-netdev", "user,id=net");
    option(&s, "-device",
           s.kind->cpu == MOS_CPU_X86_64 ? "virtio-net-pci,netdev=net"
                                         : "virtio-net-device,netdev=net");
    note(&s, "What it writes is forgotten when it ends; Ctrl-A and then X ends it.");
    mos_buf_printf(&s.notes, "%s%s%s\n", mos_buf_string(&s.first), mos_buf_string(&s.line),
                   s.first.length ? "; rm -r \"$d\"" : "");
    report_text(&m->report, "emulator", NULL,
                mos_printf(m->arena, "# First: mosaicum build %s\n%s", s.selector,
                           mos_buf_string(&s.notes)));
}
