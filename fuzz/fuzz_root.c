#define _GNU_SOURCE
/* What rules read of a root file system: mount table, start-up, users, units, the index of its
 * modules, its first program; and partitions of a flash in the kernel's arguments.  The input is
 * cut at lines of eight hashes: the arguments, then one file after the other. */
#include "harness.h"

#include "model/schema.h"
#include "plan/bytes.h"
#include "rules/rules.h"

#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

static const char definition[] =
    "mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm64\n  console: {port: ttyAMA0, baud: "
    "115200}\n"
    "  media:\n    card: {kind: sd, size: 64 MiB, loader: mmc 0, kernel: mmcblk0}\n"
    "    flash: {kind: nor, size: 8 MiB, erase: 64 KiB, loader: sf 0, flash-id: 4000000.flash}\n"
    "pieces: {rootfs: {file: root.tar}}\nkernel: {release: 6.1.0}\n"
    "boot: {via: script, entries: {main: {arguments: {root: <root>, mtdparts: word}}}}\n"
    "layout:\n  flash: {regions: {first: {at: 0 B, size: 64 KiB}, env: {at: 64 KiB, size: 64 "
    "KiB}}}\n"
    "  card:\n    table: {kind: gpt}\n    regions:\n"
    "      root: {number: 1, size: 32 MiB, volume: {kind: ext4, label: root, fills: {all: "
    "{archive: "
    "rootfs}, index: {made: module-index}}}}\n"
    "system: {log-in: {how: inittab}}\n";

static const struct {
    const char *path;
    int mode;
} files[] = {{"etc/fstab", 0644},
             {"etc/inittab", 0644},
             {"etc/passwd", 0644},
             {"etc/shadow", 0600},
             {"etc/group", 0644},
             {"lib/systemd/system/gauge.service", 0644},
             {"lib/modules/6.1.0/modules.dep", 0644},
             {"lib/modules/6.1.0/modules.dep.bin", 0644},
             {"lib/modules/6.1.0/modules.order", 0644},
             {"lib/modules/6.1.0/modules.builtin", 0644},
             {"lib/modules/6.1.0/kernel/gauge.ko", 0644},
             {"sbin/init", 0755},
             {"etc/ssh/sshd_config", 0644}};
enum { FILES = sizeof files / sizeof *files, BLOCK = 512 };
static const char divider[] = "\n########\n";

/* An archive of files (POSIX ustar). */
static void add_file(struct mos_buf *out, const char *path, int mode, const char *bytes,
                     size_t length) {
    char head[BLOCK] = "";
    unsigned sum = 0;
    snprintf(head, 100, "%s", path);
    snprintf(head + 100, 8, "%07o", (unsigned)mode);
    snprintf(head + 108, 8, "%07o", 0u);
    snprintf(head + 116, 8, "%07o", 0u);
    snprintf(head + 124, 12, "%011zo", length);
    snprintf(head + 136, 12, "%011o", 0u);
    memset(head + 148, ' ', 8);
    head[156] = '0';
    memcpy(head + 257, "ustar\00000", 8);
    for (size_t i = 0; i < BLOCK; i++)
        sum += (unsigned char)head[i];
    snprintf(head + 148, 8, "%06o", sum);
    mos_buf_add(out, head, BLOCK);
    mos_buf_add(out, bytes, length);
    mos_buf_align(out, BLOCK);
}

static char folder_path[] = "/tmp/fuzz-root.XXXXXX";

static void remove_folder(void) {
    char file[100];
    snprintf(file, sizeof file, "%s/root.tar", folder_path);
    unlink(file);
    rmdir(folder_path);
}

/* A folder that is there as long as the process. */
static const char *folder(void) {
    static bool made;
    if (!made && (!mkdtemp(folder_path) || atexit(remove_folder)))
        abort();
    made = true;
    return folder_path;
}

static void write_archive(struct mos_ctx *ctx, const struct mos_buf *archive) {
    FILE *f = fopen(mos_printf(ctx->arena, "%s/root.tar", folder()), "wb");
    if (!f || fwrite(archive->data, 1, archive->length, f) != archive->length || fclose(f))
        abort();
}

static struct mos_board *board_of(struct mos_ctx *ctx, const char *arguments) {
    struct mos_node *n = mos_yaml_parse(
        ctx, mos_source_make(ctx->arena, "board", definition, sizeof definition - 1, 0));
    struct mos_board *b = mos_alloc(ctx->arena, sizeof *b);
    if (!n)
        abort();
    mos_schema_read(ctx, &mos_board_keys, n, MOS_READ_WHOLE, b);
    b->r.name = b->selector = "curlew";
    b->workspace_name = "saltmarsh-survey";
    b->root = folder();
    mos_schema_refer(ctx, b);
    const struct mos_boot_entry *e = b->boot->entries.items[0];
    const struct mos_argument *a = mos_named_get(&e->arguments, "mtdparts");
    ((struct mos_value *)a->values.items[0])->text = arguments;
    return b;
}

static void body(struct mos_ctx *ctx, const uint8_t *data, size_t size) {
    struct mos_buf archive = {.arena = ctx->arena};
    const char *text = mos_strndup(ctx->arena, (const char *)data, size), *arguments = "";
    const char *p = (const char *)data, *end = p + size;
    for (size_t i = 0; i <= FILES && p <= end; i++) {
        const char *cut = memmem(p, (size_t)(end - p), divider, sizeof divider - 1);
        size_t n = (size_t)((cut ? cut : end) - p);
        if (i)
            add_file(&archive, files[i - 1].path, files[i - 1].mode, p, n);
        else
            arguments = mos_strndup(ctx->arena, text, strnlen(text, n));
        if (!cut)
            break;
        p = cut + sizeof divider - 1;
    }
    mos_buf_zeros(&archive, 2 * BLOCK);
    write_archive(ctx, &archive);
    struct mos_plan *plan = mos_plan_make(ctx, board_of(ctx, arguments));
    if (!plan)
        return;
    mos_rules_run(plan, MOS_STAGE_PLAN);
    for (size_t m = 0; m < plan->media.count; m++) {
        struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++)
            if (!mos_plan_fill(plan, medium, mos_vec_pointer(&medium->regions, i), NULL))
                return;
    }
    mos_rules_run(plan, MOS_STAGE_VOLUMES);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    return fuzz_run(data, size, body);
}
