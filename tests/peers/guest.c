/* A FAT volume as a Linux guest writes it: the entries of a folder, byte by byte. */
#include "peers.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

enum { NAMES = 300, ENTRY = 32 };

static const char init_text[] =
    "#!/bin/sh\n"
    "/bin/busybox mount -t proc proc /proc\n"
    "/bin/busybox mount -t devtmpfs dev /dev\n"
    "for m in fat nls_cp437 nls_ascii vfat; do /bin/busybox insmod /mods/$m.ko; done\n"
    "/bin/busybox mount -t vfat -o shortname=winnt,utf8 /dev/nvme0n1p1 /mnt\n"
    "/bin/busybox mkdir /mnt/guest\n"
    "while read -r n; do : > \"/mnt/guest/$n\" || echo failed $n; done < /names\n"
    "seen=0\n"
    "while read -r n; do [ -f \"/mnt/ours/$n\" ] && seen=$((seen+1)); done < /names\n"
    "echo marker-seen $seen\n"
    "/bin/busybox umount /mnt\n"
    "/bin/busybox sync\n"
    "echo marker-written\n"
    "/bin/busybox poweroff -f\n";

/* Names of every kind: short ones in either case or both, with dots, spaces and what short names
 * cannot have; of ASCII, for beyond it a short name hangs on a code page, and ours has none.  No
 * more than a few share their first letters: after nine the kernel draws lots. */
static void make_names(char names[NAMES][64]) {
    static const char *const ends[] = {"",   ".txt",  ".TXT",    ".Txt",
                                       ".c", ".dtbo", ".tar.gz", ".d t"};
    static const char *const inside[] = {"",  "",  "",  " ",  ".", "+", "[1]",
                                         ",", ";", "=", "~1", "-", "_"};
    uint64_t state = 12;
    for (size_t i = 0; i < NAMES; i++) {
        char *p = names[i];
        size_t letters = 1 + (size_t)random_below(&state, 11),
               kind = (size_t)random_below(&state, 4);
        p += sprintf(p, "%c%c%zu", "ac"[kind & 1] - (kind == 3 ? 32 : 0), "Kk"[kind < 2], i);
        for (size_t k = 0; k < letters; k++)
            *p++ = (char)(((kind == 2 ? random_below(&state, 2) != 0 : kind == 3) ? 'A' : 'a') +
                          (int)random_below(&state, 26));
        p += sprintf(p, "%s", inside[random_below(&state, sizeof inside / sizeof *inside)]);
        if (random_below(&state, 3) == 0)
            p += sprintf(p, "%s", kind == 3 ? "MAST" : "mast");
        sprintf(p, "%s", ends[random_below(&state, sizeof ends / sizeof *ends)]);
        size_t last = strlen(names[i]) - 1;
        if (strchr(". ", names[i][last])) /* no folder of FAT can have such an end */
            names[i][last] = '-';
    }
    /* some that are as long as a short name can be, of one case each */
    static const char *const chosen[] = {"config.txt", "CMDLINE.TXT", "start4.elf", "BOOTCODE.bin",
                                         "Image",      "kernel8.img", ".profile",   "overlays.tar"};
    for (size_t i = 0; i < sizeof chosen / sizeof *chosen; i++)
        strcpy(names[i], chosen[i]);
    for (size_t i = 10; i < 50; i++) /* numbers where names begin alike */
        sprintf(names[i], "%cast note %zu of the tide.txt", "bdefghij"[i % 8], i);
}

/* ---- reading entries ---- */

struct fat {
    const uint8_t *volume;
    uint32_t cluster_size, data_at;
};

static uint8_t *follow(const struct fat *f, uint32_t cluster, size_t *length) {
    const uint8_t *table = f->volume + mos_le16(f->volume + 14) * 512u;
    uint8_t *bytes = NULL;
    for (*length = 0; cluster >= 2 && cluster < 0x0ffffff8;
         cluster = mos_le32(table + 4 * cluster)) {
        bytes = realloc(bytes, *length + f->cluster_size);
        memcpy(bytes + *length, f->volume + f->data_at + (cluster - 2) * f->cluster_size,
               f->cluster_size);
        *length += f->cluster_size;
    }
    return bytes;
}

static uint8_t *folder(const struct fat *f, const char name[12], size_t *length) {
    uint8_t *root = follow(f, mos_le32(f->volume + 44), length), *found = NULL;
    for (size_t at = 0; at + ENTRY <= *length && !found; at += ENTRY)
        if (memcmp(root + at, name, 11) == 0)
            found = follow(f, (uint32_t)mos_le16(root + at + 20) << 16 | mos_le16(root + at + 26),
                           length);
    free(root);
    return found;
}

/* Takes out what is allowed to differ: times, sizes and where the content lies. */
static size_t only_names(uint8_t *p, size_t length) {
    size_t at = 2 * ENTRY; /* after . and .. */
    for (; at + ENTRY <= length && p[at]; at += ENTRY)
        if (p[at + 11] != 0x0f)
            memset(p + at + 13, 0, ENTRY - 13);
    return at;
}

static void entries_are_those_of_the_kernel(void) {
    const char *w = keep(test_folder("guest"));
    static char names[NAMES][64];
    make_names(names);
    make_real_workspace(w);
    for (size_t i = 0; i < NAMES; i++)
        write_text(path_in(w, "notes/ours/%s", names[i]), "jetty\n");
    write_text(path_in(w, "files/sbin/init"), init_text);
    /* the order of both is that of our folder */
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && (cd notes/ours && LC_ALL=C ls -A) > files/names && [ $(wc -l < files/names) = "
        "%d ] && chmod 755 files/sbin/init && tar --numeric-owner --owner=0 --group=0 -czf "
        "pieces/rootfs.tar.gz -C files . && '%s' --no-cache -q build",
        w, NAMES, MOSAICUM_PROGRAM));
    const char *image = keep(path_in(w, "out/curlew/card.img"));
    /* every name is found by the tools that read short names, too */
    CU_ASSERT(runs(0,
                   "cd '%s' && s=$(sfdisk -d out/curlew/card.img | sed -n 's/.*img1 : start= "
                   "*\\([0-9]*\\),.*/\\1/p') && while read -r n; do n=$(echo \"$n\" | sed "
                   "'s/[[]/\\\\[/'); mtype -i "
                   "out/curlew/card.img@@${s}s \"::ours/$n\" | grep -q jetty || exit 1; done < "
                   "files/names",
                   w));
    machine_keeps();
    struct machine *m = machine_start("arm64", image, "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    char seen[40];
    snprintf(seen, sizeof seen, "marker-seen %d", NAMES);
    CU_ASSERT_TRUE(ok && machine_expect(m, "Starting kernel", 40) && machine_expect(m, seen, 90) &&
                   machine_expect(m, "marker-written", 40));
    machine_stop(m);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "cd '%s' && '%s' -q take out/curlew/card.img boot -o fat", w, MOSAICUM_PROGRAM));
    size_t length, a_length = 0, b_length = 0, same = 0;
    uint8_t *volume = (uint8_t *)read_whole(path_in(w, "fat"), &length);
    CU_ASSERT_TRUE_FATAL(volume && mos_le16(volume + 11) == 512);
    struct fat f = {.volume = volume,
                    .cluster_size = volume[13] * 512u,
                    .data_at = (mos_le16(volume + 14) + volume[16] * mos_le32(volume + 36)) * 512};
    uint8_t *a = folder(&f, "OURS       ", &a_length), *b = folder(&f, "GUEST      ", &b_length);
    CU_ASSERT_TRUE_FATAL(a && b);
    a_length = only_names(a, a_length);
    b_length = only_names(b, b_length);
    CU_ASSERT_EQUAL(a_length, b_length);
    for (size_t at = 2 * ENTRY; at < a_length && at < b_length; at += ENTRY) {
        if (memcmp(a + at, b + at, ENTRY) == 0) {
            same += a[at + 11] != 0x0f;
            continue;
        }
        fprintf(stderr, "\nentry %zu, ours and the kernel's:\n", at / ENTRY);
        for (size_t k = 0; k < 2 * ENTRY; k++)
            fprintf(stderr, "%02x%c", (k < ENTRY ? a + at : b + at - ENTRY)[k],
                    "\n "[(k + 1) % ENTRY != 0]);
        CU_FAIL("another entry than the kernel's");
        break;
    }
    CU_ASSERT_EQUAL(same, NAMES);
    proved("FAT entries as a Linux guest writes them",
           "%zu names, long and short: the same bytes in the same order; mtools finds each", same);
    free(a);
    free(b);
    free(volume);
    remove_folder(w);
}

SUITE(guest_suite, {"entries are those of the kernel", entries_are_those_of_the_kernel});
