/* A kernel that is built out of a configuration of ours, for real: what it holds as its own
 * configuration is ours, line for line; and the bytes that settings are said to bring are those of
 * its map. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

/* The smallest one there is, with what prints, holds its configuration, and a few modules. */
static const char fragment[] =
    "CONFIG_EXPERT=y\nCONFIG_DEBUG_KERNEL=y\nCONFIG_VMLINUX_MAP=y\nCONFIG_PRINTK=y\nCONFIG_TTY=y\n"
    "CONFIG_SERIAL_AMBA_PL011=y\nCONFIG_SERIAL_AMBA_PL011_CONSOLE=y\nCONFIG_BINFMT_ELF=y\n"
    "CONFIG_BINFMT_SCRIPT=y\nCONFIG_BLK_DEV_INITRD=y\nCONFIG_PROC_FS=y\nCONFIG_SYSFS=y\n"
    "CONFIG_IKCONFIG=y\nCONFIG_IKCONFIG_PROC=y\nCONFIG_MODULES=y\nCONFIG_DEVTMPFS=y\n"
    "CONFIG_VIRTIO_MENU=y\nCONFIG_VIRTIO_MMIO=y\nCONFIG_BLOCK=y\nCONFIG_BLK_DEV=y\n"
    "CONFIG_VIRTIO_BLK=m\nCONFIG_EXT4_FS=m\n";

static const char init[] = "#!/bin/busybox sh\n"
                           "/bin/busybox mount -t proc proc /proc\n"
                           "echo == config; /bin/busybox zcat /proc/config.gz; echo == end\n"
                           "/bin/busybox poweroff -f\n";

#define MAKE                                                                                       \
    "make -s -C '%s/whole-sources' O=\"$PWD/o\" ARCH=arm64 CROSS_COMPILE=aarch64-linux-gnu- "
#define OURS                                                                                       \
    "'%s' config %s --source '%s/whole-sources' --arch arm64 --cc aarch64-linux-gnu-gcc --start "  \
    "start --fragment fragment %s"

static void make_kernel(const char *w) {
    const char *cache = peers_cache();
    write_text(path_in(w, "fragment"), fragment);
    write_text(path_in(w, "r/init"), init);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && mkdir o && " MAKE
                              "tinyconfig >/dev/null 2>&1 && cp o/.config start && " OURS
                              " && cp ours o/.config && " MAKE "-j$(nproc) Image modules >log 2>&1",
                              w, cache, MOSAICUM_PROGRAM, "resolve", cache, "-o ours", cache));
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s/r' && chmod 755 init && mkdir -p bin proc dev && mknod -m 600 dev/console c 5 "
             "1 && cp '%s/busybox/bin/busybox' bin/ && find . | cpio -o -H newc --quiet | gzip > "
             "../ramdisk",
             w, cache));
}

/* Behind the comment at the top. */
static const char *body(const char *text) {
    while (*text == '#')
        text += strcspn(text, "\n") + 1;
    return text;
}

/* What it says of itself once it runs is what it was built from; how many lines. */
static size_t compare_configuration(const char *w) {
    struct outcome o = run_shell(
        "cd '%s' && timeout 300 qemu-system-aarch64 -M virt -cpu cortex-a53 -m 256 -nic none "
        "-display none -monitor none -no-reboot -serial stdio -kernel o/arch/arm64/boot/Image "
        "-initrd ramdisk -append 'console=ttyAMA0 panic=-1' </dev/null | tr -d '\\r'",
        w);
    char *begin = strstr(o.out, "== config\n"), *end = begin ? strstr(begin += 10, "== end") : NULL,
         *own = read_whole(path_in(w, "ours"), NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(end);
    *end = 0;
    CU_ASSERT_STRING_EQUAL(body(begin), body(own));
    size_t lines = 0;
    for (const char *p = begin; (p = strchr(p, '\n')); p++)
        lines++;
    free(own);
    outcome_free(&o);
    return lines;
}

/* What settings of one object each are said to bring is as large as their object; the linker keeps
 * the same text of several once.  How many there were. */
static size_t compare_sizes(const char *w) {
    static const struct {
        const char *setting, *object;
    } rows[] = {{"CONFIG_DEVTMPFS=y", "drivers/base/devtmpfs.o"},
                {"CONFIG_BINFMT_SCRIPT=y", "fs/binfmt_script.o"},
                {"CONFIG_IKCONFIG=y", "kernel/configs.o"}};
    enum { COUNT = sizeof rows / sizeof *rows };
    for (size_t i = 0; i < COUNT; i++) {
        struct outcome o = run_shell(
            "cd '%s' && " OURS " --json >cost.json && python3 -c 'import json,sys\n"
            "for r in json.load(open(\"cost.json\"))[\"report\"][0][\"rows\"]:\n"
            "  if r[\"setting\"] == sys.argv[1]: print(r[\"image\"])' %s && aarch64-linux-gnu-size "
            "o/%s | awk 'NR == 2 {print $1 + $2}'",
            w, MOSAICUM_PROGRAM, "cost", peers_cache(), "--link-map o/vmlinux.map --modules o",
            rows[i].setting, rows[i].object);
        unsigned long said = 0, is = 0;
        CU_ASSERT_EQUAL(sscanf(o.out, "%lu %lu", &said, &is), 2);
        CU_ASSERT_TRUE(said > is / 2 && said <= is + is / 50);
        if (said > is + is / 50 || said <= is / 2)
            fprintf(stderr, "%s: %s%s", rows[i].setting, o.out, o.err);
        outcome_free(&o);
    }
    return COUNT;
}

/* Objects of the map that the configuration should not have, or lacks: two of one build file are
 * replaced by a later line of it. */
static void compare_objects(const char *w) {
    struct outcome o = run_shell("cd '%s' && " OURS, w, MOSAICUM_PROGRAM, "cost", peers_cache(),
                                 "--link-map o/vmlinux.map --modules o");
    CU_ASSERT_PTR_NULL(strstr(o.out, "is it this kernel's map?"));
    CU_ASSERT_PTR_NULL(strstr(o.out, "not in that folder"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "2 objects are built in and not in the map "
                                         "(fs/proc/nommu.o, fs/proc/task_nommu.o)"));
    outcome_free(&o);
}

static void a_kernel_of_ours_holds_our_configuration(void) {
    static const char what[] = "a kernel built from a configuration of ours";
    if (!peers_all() || proved_before(what))
        return; /* it takes a quarter of an hour */
    const char *w = test_folder("built");
    make_kernel(w);
    size_t lines = compare_configuration(w), sizes = compare_sizes(w);
    compare_objects(w);
    proved(what,
           "%zu lines of its own /proc/config.gz are ours; %zu settings bring their objects' bytes",
           lines, sizes);
}

SUITE(built_suite,
      {"a kernel of ours holds our configuration", a_kernel_of_ours_holds_our_configuration});
