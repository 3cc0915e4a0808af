/* Boards that start from what we built, and damage to it. */
#define _GNU_SOURCE
#include "damage.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "loaders/u-boot/legacy.h"

#include <stdlib.h>
#include <string.h>

/* ---- the boards ---- */

/* What a base is started on: the emulated machine and how its loader is made to look at the disk,
 * and the same told to the rehearsal. */
const struct damaged_machine damaged_machines[] = {
    {"arm64", "virtio-blk-pci", "run bootcmd_virtio0\r", "qemu-system-aarch64",
     "/usr/lib/u-boot/qemu_arm64/u-boot.bin",
     "--as 'virtio 0' --cpu arm64 --ram-start 0x40000000 --ram '512 MiB'"},
    {"arm", "virtio-blk-device", "run bootcmd_virtio0\r", "qemu-system-arm -cpu cortex-a15 -m 128",
     "/usr/lib/u-boot/qemu_arm/u-boot.bin",
     "--as 'virtio 0' --cpu arm --ram-start 0x40000000 --ram '128 MiB'"},
    {"riscv64", "virtio-blk-device", "virtio scan; run bootcmd_virtio0\r",
     "qemu-system-riscv64 -m 1024", "/usr/lib/u-boot/qemu-riscv64_smode/u-boot.bin",
     "--as 'virtio 0' --cpu riscv64 --ram-start 0x80000000 --ram '1024 MiB'"},
};

/* The demo's board, told to the loader in four ways: its name is the value of `via`.  Variables
 * lie in a flash; the second entry of the others differs in its arguments.  Then the demo's two
 * boards of other processors, as they are. */
const struct damaged_board damaged_boards[] = {
    {"script", {"boot.scr", "kernel", "main.dtb"}, DAMAGED_ARM64, "curlew", "card.img"},
    {"menu", {"extlinux/extlinux.conf", "kernel", "main.dtb"}, DAMAGED_ARM64, "curlew", "card.img"},
    {"parcel", {"boot.scr", "boot.parcel", "boot.parcel"}, DAMAGED_ARM64, "curlew", "card.img"},
    {"environment", {"kernel", "kernel", "main.dtb"}, DAMAGED_ARM64, "curlew", "card.img"},
    {"arm", {"boot.scr", "kernel", "main.dtb"}, DAMAGED_ARM, "dunlin", "card.img"},
    {"riscv64", {"boot.scr", "boot.parcel", "boot.parcel"}, DAMAGED_RISCV, "avocet", "emmc.img"},
};
enum { OTHERS = 4, BLOCK = 0x40000 };

void damaged_board_make(size_t b, const char *w) {
    static const char counts[] = "system: {confirm: inittab}\\nboot:\\n  tries: 3";
    static const char chooses[] = /* a menu cannot count */
        "waivers: {menu: {rule: boot.fallback-unreachable, place: boot.entries.main, reason: "
        "tested}}\\nboot:";
    if (b == DAMAGED_IN_FLASH) {
        make_flash_workspace(w);
        return;
    }
    if (b >= OTHERS) { /* with the machine's own tree, which its loader has; that loader keeps its
                          variables in a flash, so those on the medium are not its own */
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s' && '%s' --no-cache -q -w '%s/demo/saltmarsh' build %s --out '%s/out' && "
                 "%s -M virt,dumpdtb=machine.dtb -nic none -display none 2>/dev/null && for at in "
                 "3072 4096; do [ %s != avocet ] || dd if=/dev/zero of=out/avocet/emmc.img bs=1K "
                 "seek=$at count=32 conv=notrunc status=none; done",
                 w, MOSAICUM_PROGRAM, MOSAICUM_SOURCE, damaged_boards[b].board, w,
                 damaged_machines[damaged_boards[b].machine].tree, damaged_boards[b].board));
        return;
    }
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && sed -i -e 's/^  via: script$/  via: %s/' -e '/^      env: /d; /^  "
        "environments:/d; /^    main: {base: defaults/d' -e "
        "'s/^layout:$/    spare: {kernel: kernel, tree: main, arguments: {root: <root>, panic: "
        "5, init: \\/bin\\/sh}}\\n\\nlayout:/' -e 's/^boot:$/%s/' "
        "-e 's/flags: [[]rootwait, ro]/flags: [rootwait, ro, panic=5]/' boards/curlew.yaml && "
        "'%s' --no-cache -q -w . build",
        w, damaged_boards[b].via, strcmp(damaged_boards[b].via, "menu") == 0 ? chooses : counts,
        MOSAICUM_PROGRAM));
}

/* ---- damage ---- */

char *damage_take(struct damage *d, const char *file, size_t *length) {
    const char *to = keep(path_in(d->folder, "taken"));
    CU_ASSERT_TRUE(runs(0, "rm -f '%s' && '%s' -q take '%s' '1:%s' -o '%s'", to, MOSAICUM_PROGRAM,
                        d->image, file, to));
    return read_whole(to, length);
}

void damage_put(struct damage *d, const char *file, const void *bytes, size_t length) {
    const char *from = keep(path_in(d->folder, "put")), *to = keep(path_in(d->folder, "new.img"));
    write_file(from, bytes, length);
    CU_ASSERT_TRUE(runs(0, "rm -f '%s' && '%s' -q amend '%s' '1:%s=%s' -o '%s' && mv '%s' '%s'", to,
                        MOSAICUM_PROGRAM, d->image, file, from, to, to, d->image));
}

static void lose(struct damage *d, const char *file) {
    const char *to = keep(path_in(d->folder, "new.img"));
    CU_ASSERT_TRUE(runs(0, "rm -f '%s' && '%s' -q amend '%s' '1:~%s' -o '%s' && mv '%s' '%s'", to,
                        MOSAICUM_PROGRAM, d->image, file, to, to, d->image));
    snprintf(d->what, sizeof d->what, "%s missing", file);
}

static void cut(struct damage *d, const char *file) {
    size_t n;
    char *bytes = damage_take(d, file, &n);
    size_t at = (size_t)random_below(&d->seed, n);
    damage_put(d, file, bytes, at);
    snprintf(d->what, sizeof d->what, "%s cut to %zu of %zu bytes", file, at, n);
    free(bytes);
}

static void flip(struct damage *d, const char *file, size_t limit) {
    size_t n;
    char *bytes = damage_take(d, file, &n);
    size_t at = (size_t)random_below(&d->seed, limit && limit < n ? limit : n);
    unsigned bit = (unsigned)random_below(&d->seed, 8);
    bytes[at] = (char)(bytes[at] ^ 1 << bit);
    damage_put(d, file, bytes, n);
    snprintf(d->what, sizeof d->what, "%s: bit %u of byte %zu flipped", file, bit, at);
    free(bytes);
}

/* One text for another, once. */
static const struct {
    const char *from, *to;
} edits[] = {
    {"distro_bootpart}", "distro_bootpart}1"},
    {"0x40200000", "0x40280000"},
    {"0x40200000", "0x30000000"},
    {"0x40200000", "0x5f000000"},
    {"0x40400000 main.dtb", "0x40200200 main.dtb"},
    {"0x40400000 main.dtb", "0x40400000 main.dtc"},
    {"booti", "bootz"},
    {"booti", "bootm"},
    {"bootm", "booti"},
    {" - ", " "},
    {"kernel; then", "kernal; then"},
    {"; then", " then"},
    {"setenv bootargs", "setenv bootarg"},
    {"root=", "rot="},
    {"fi\n", "\n"},
    {"done\n", "\n"},
    {"if load", "load"},
    {"#main", "#mian"},
    {"= main", "== main"},
    {"= main", "!= main"},
    {"-lt 3", "-lt 0"},
    {"KERNEL /kernel", "KERNEL /kernal"},
    {"KERNEL", "KERNL"},
    {"LABEL main", "LABEL other"},
    {"FDT /main.dtb", "FDT /mine.dtb"},
    {"APPEND root", "APPEND rooot"},
    {"echo", "ecko"},
    {"\"", ""},
    {"'", ""},
    {"${devtype}", "$devtype"},
    {"${devnum}", "${devnumber}"},
    {"setexpr boot_tries", "setexpr.b boot_tries"},
    {"0x40400000\n", "0x40300000\n"},
};
enum { EDITS = sizeof edits / sizeof *edits };

static bool edit_text(struct damage *d, const char *file) {
    size_t n, length;
    char *bytes = damage_take(d, file, &n);
    bool script = strstr(file, ".scr") != NULL;
    char *text = script ? bytes + MOS_LEGACY_HEADER + 8 : bytes;
    length = script ? n - MOS_LEGACY_HEADER - 8 : n;
    text = strndup(text, length);
    size_t first = (size_t)random_below(&d->seed, EDITS), e = first;
    char *at = NULL;
    for (size_t i = 0; i < EDITS && !at; i++) {
        e = (first + i) % EDITS;
        at = strstr(text, edits[e].from);
    }
    if (at && random_below(&d->seed, 2) && strstr(at + 1, edits[e].from))
        at = strstr(at + 1, edits[e].from); /* the second one */
    if (at) {
        struct core c;
        core_start(&c);
        struct mos_buf out = {.arena = c.ctx.arena}, file_out = {.arena = c.ctx.arena};
        mos_buf_add(&out, text, (size_t)(at - text));
        mos_buf_text(&out, edits[e].to);
        mos_buf_text(&out, at + strlen(edits[e].from));
        if (script)
            mos_legacy_script(&file_out, "edited", 0, out.data, out.length);
        damage_put(d, file, script ? file_out.data : out.data,
                   script ? file_out.length : out.length);
        core_end(&c);
        snprintf(d->what, sizeof d->what, "%s: \"%.20s\" for \"%.20s\"", file, edits[e].to,
                 edits[e].from);
        for (char *p = d->what; *p; p++)
            *p = *p == '\n' ? ' ' : *p;
    }
    free(text);
    free(bytes);
    return at != NULL;
}

/* ---- damage to a stored environment ---- */

/* A sum that fits again, over the text behind it. */
static void seal(uint8_t *block) {
    mos_put_le32(block, mos_crc32(0, block + 4, BLOCK - 4));
}

/* One text for another in the variables, all of them still in their form. */
static bool edit_variables(struct damage *d, uint8_t *block) {
    size_t first = (size_t)random_below(&d->seed, EDITS);
    for (size_t i = 0; i < EDITS; i++) {
        size_t e = (first + i) % EDITS, from = strlen(edits[e].from), to = strlen(edits[e].to);
        uint8_t *at =
            strchr(edits[e].from, '\n') ? NULL : memmem(block + 4, BLOCK / 2, edits[e].from, from);
        if (!at)
            continue;
        memmove(at + to, at + from, BLOCK - 100 - (size_t)(at - block));
        memcpy(at, edits[e].to, to);
        seal(block);
        snprintf(d->what, sizeof d->what, "variables: \"%.20s\" for \"%.20s\"", edits[e].to,
                 edits[e].from);
        return true;
    }
    return false;
}

static void damage_flash(struct damage *d) {
    size_t n, used = 4;
    uint8_t *all = (uint8_t *)read_whole(d->flash, &n);
    while (all[used] || all[used + 1])
        used++;
    uint64_t kind = random_below(&d->seed, 8);
    size_t at = (size_t)random_below(&d->seed, kind == 0 ? 4 : used);
    if (kind < 2) {
        all[at] ^= (uint8_t)(1 << random_below(&d->seed, 8));
        snprintf(d->what, sizeof d->what, "variables: a bit of byte %zu of %zu flipped", at, used);
    } else if (kind == 2) {
        memset(all, 0xff, BLOCK);
        snprintf(d->what, sizeof d->what, "variables: erased");
    } else if (kind == 3) {
        memset(all + at, 0xff, BLOCK - at);
        snprintf(d->what, sizeof d->what, "variables: torn behind byte %zu of %zu", at, used);
    } else if (kind == 4) { /* cut off by somebody who made the sum again */
        memset(all + 4 + at, 0, BLOCK - 4 - at);
        seal(all);
        snprintf(d->what, sizeof d->what, "variables: cut to %zu of %zu bytes", at, used);
    } else {
        edit_variables(d, all);
    }
    write_file(d->flash, all, n);
    free(all);
}

void damage_something(struct damage *d, size_t b) {
    if (b == DAMAGED_IN_FLASH && random_below(&d->seed, 4)) {
        damage_flash(d);
        return;
    }
    const char *file = damaged_boards[b].files[random_below(&d->seed, 3)];
    switch (random_below(&d->seed, 7)) {
    case 0:
        lose(d, file);
        break;
    case 1:
        cut(d, file);
        break;
    case 2:
        flip(d, file, 0);
        break;
    case 3: /* where formats have their headers */
        flip(d, file, 300);
        break;
    default:
        if (b == DAMAGED_IN_FLASH)
            lose(d, file);
        else
            edit_text(d, damaged_boards[b].files[0]);
    }
}

void damage_begin(struct damage *d, size_t b, const char *w) {
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "rm -rf '%s/curlew' && mkdir '%s/curlew' && cp --sparse=always "
                              "'%s'/out/%s/*.img '%s/curlew/'",
                              d->folder, d->folder, w, damaged_boards[b].board, d->folder));
    d->image = keep(path_in(d->folder, "curlew/%s", damaged_boards[b].image));
    d->machine = damaged_boards[b].machine;
    d->flash = b == DAMAGED_IN_FLASH ? keep(path_in(d->folder, "curlew/flash.img")) : NULL;
    snprintf(d->what, sizeof d->what, "as it was built");
}

void damage_script(struct damage *d, const char *from, const char *to, bool waits) {
    size_t n;
    char *bytes = damage_take(d, "boot.scr", &n);
    struct core c;
    core_start(&c);
    const char *text =
        mos_strndup(c.ctx.arena, bytes + MOS_LEGACY_HEADER + 8, n - MOS_LEGACY_HEADER - 8);
    const char *at = strstr(text, from);
    CU_ASSERT_PTR_NOT_NULL_FATAL(at);
    struct mos_buf out = {.arena = c.ctx.arena};
    text = mos_printf(c.ctx.arena, "%.*s%s%s", (int)(at - text), text, to, at + strlen(from));
    const char *wait = waits ? NULL : strstr(text, "rootwait ");
    if (wait)
        text = mos_printf(c.ctx.arena, "%.*s%s", (int)(wait - text), text, wait + 9);
    mos_legacy_script(&out, "edited", 0, text, strlen(text));
    damage_put(d, "boot.scr", out.data, out.length);
    core_end(&c);
    free(bytes);
}
