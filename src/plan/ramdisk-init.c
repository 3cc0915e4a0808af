/* The first program of a ramdisk: a shell script that goes on to the root. */
#include "plan/ramdisk_internal.h"

#include "linux/devices.h"

#include <string.h>

static void write_names(const struct mos_plan *plan, struct mos_buf *out) {
    mos_buf_text(out, "case $root in\n");
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, i);
        const char *kernel = mos_text_or(medium->medium->kernel, NULL);
        for (size_t k = 0; k < medium->regions.count && kernel; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, k);
            if (r->number && *r->id_text)
                mos_buf_printf(out, "  PARTUUID=%s) root=/dev/%s ;;\n", r->id_text,
                               mos_device_partition(out->arena, kernel, r->number));
        }
    }
    mos_buf_text(out, "esac\n");
}

static const char *first_program(struct ramdisk *m) {
    struct mos_buf b = {.arena = m->plan->ctx->arena};
    mos_buf_text(&b, "#!/bin/sh\n"
                     "# Made by mosaicum: loads the modules of this ramdisk in their order and "
                     "goes on to the root.\n"
                     "mount -t proc proc /proc\n"
                     "mount -t sysfs sysfs /sys\n"
                     "mount -t devtmpfs devtmpfs /dev\n");
    if (m->def->modules)
        mos_buf_printf(&b,
                       "while read -r module; do\n"
                       "  insmod \"$module\" || echo \"ramdisk: $module cannot be loaded\"\n"
                       "done < %s\n",
                       ramdisk_order_file(m->def));
    mos_buf_text(&b, "root= mode=ro kind= first=/sbin/init\n"
                     "for word in $(cat /proc/cmdline); do\n"
                     "  case $word in\n"
                     "    root=*) root=${word#root=} ;;\n"
                     "    rootfstype=*) kind=\"-t ${word#rootfstype=}\" ;;\n"
                     "    init=*) first=${word#init=} ;;\n"
                     "    ro|rw) mode=$word ;;\n"
                     "  esac\n"
                     "done\n");
    write_names(m->plan, &b);
    mos_buf_text(&b, "# Nothing waits for ever: without a root this ends, the kernel panics, and "
                     "panic= starts again.\n"
                     "n=0\n"
                     "while [ ! -b \"$root\" ]; do\n"
                     "  n=$((n + 1))\n"
                     "  if [ $n -gt 30 ]; then\n"
                     "    echo \"ramdisk: the root $root did not come within 30 s\"\n"
                     "    exit 1\n"
                     "  fi\n"
                     "  sleep 1\n"
                     "done\n"
                     "if ! mount -o \"$mode\" $kind \"$root\" /root; then\n"
                     "  echo \"ramdisk: the root $root cannot be mounted\"\n"
                     "  exit 1\n"
                     "fi\n"
                     "exec switch_root /root \"$first\"\n");
    return mos_buf_string(&b);
}

static bool has_program(const struct ramdisk *m, const char *name) {
    static const char *const folders[] = {"bin", "sbin", "usr/bin", "usr/sbin"};
    for (size_t i = 0; i < m->items.count; i++) {
        const struct ramdisk_item *x = mos_vec_at(&m->items, i);
        for (size_t k = 0; k < sizeof folders / sizeof *folders; k++) {
            size_t n = strlen(folders[k]);
            if (strncmp(x->to, folders[k], n) == 0 && x->to[n] == '/' &&
                strcmp(x->to + n + 1, name) == 0)
                return true;
        }
    }
    return false;
}

/* Before the files: those that are on the way to one are made once. */
void ramdisk_add_folders(struct ramdisk *m) {
    static const char *const own[] = {"proc", "sys", "dev", "root"};
    for (size_t i = 0; i < m->def->folders.count; i++)
        if (mos_has(m->def->folders.items[i]) && ramdisk_stays_inside(m, m->def->folders.items[i]))
            ramdisk_add(m, m->def->folders.items[i]->text, MOS_ENTRY_FOLDER, 0755);
    for (size_t i = 0; mos_true(m->def->init) && i < 4; i++)
        ramdisk_add(m, own[i], MOS_ENTRY_FOLDER, 0755);
}

void ramdisk_check_programs(struct ramdisk *m) {
    static const char *const names[] = {"sh", "mount", "cat", "sleep", "switch_root", "insmod"};
    struct mos_buf lacks = {.arena = m->plan->ctx->arena};
    for (size_t i = 0; i < sizeof names / sizeof *names - (m->def->modules ? 0 : 1); i++)
        if (!has_program(m, names[i]))
            mos_buf_printf(&lacks, "%s%s", lacks.length ? ", " : "", names[i]);
    if (!lacks.length)
        return;
    struct mos_finding *f = ramdisk_complain(
        m, MOS_RULE_PIECE_MISSING, m->def->init->place,
        mos_printf(m->plan->ctx->arena, "its /init calls %s, which the list does not have.",
                   mos_buf_string(&lacks)));
    mos_finding_try(
        &m->plan->ctx->findings, f,
        "Add a program that is all of them, and a link for each: {to: /bin/sh, link: …}.");
}

void ramdisk_add_init(struct ramdisk *m) {
    if (!mos_true(m->def->init))
        return;
    if (!mos_has(m->def->archive)) /* else once that is read */
        ramdisk_check_programs(m);
    /* before devtmpfs is there, the first program's output needs one */
    struct ramdisk_item *x = ramdisk_add(m, "dev/console", MOS_ENTRY_CHAR, 0600);
    x->major = 5;
    x->minor = 1;
    x = ramdisk_add(m, "init", MOS_ENTRY_FILE, 0755);
    x->bytes = (const uint8_t *)first_program(m);
    x->length = strlen((const char *)x->bytes);
}
