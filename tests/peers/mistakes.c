/* Mistakes that check finds are true: each is built all the same, and a real loader and a real
 * kernel do not come up with it; without it they do. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

enum { SECONDS = 25, SAMPLE = 5 };

/* What a mistake is made in: a board with a real kernel, the same behind a ramdisk of modules, and
 * one whose loader has variables in a flash. */
enum base { REAL, RAMDISK, FLASH, BASES };
enum family { NONE, PROGRAM, ARGUMENTS, MEMORY, EARLY, LOADER, FAMILIES };
static const char *const family_names[FAMILIES] = {"",
                                                   "the root and its first program",
                                                   "arguments",
                                                   "kernel, tree, RAM",
                                                   "ramdisk and modules",
                                                   "loader"};

#define ROOT "sed -i 's/root: <root>/root: %s/' boards/curlew.yaml"
#define ENTRY "sed -i 's/^      tree: main/&\\n      %s/' boards/curlew.yaml"
#define CHAIN                                                                                      \
    "sed -i 's/load virtio 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}/%s/' "                 \
    "boards/curlew.yaml"

/* What is done to the board, its pieces and its root (in files/), and which rule must find it.
 * `word` stands for %s of the edit. */
static const struct {
    enum family family;
    enum base base;
    const char *name, *rule, *edit, *word;
} mistakes[] = {
    {NONE, REAL, "none", NULL, "true", ""},
    {NONE, RAMDISK, "none", NULL, "true", ""},
    {NONE, FLASH, "none", NULL, "true", ""},
    /* one of each family first: the sample */
    {PROGRAM, REAL, "a first program whose shell is not there", "start.", "rm files/bin/sh", ""},
    {ARGUMENTS, REAL, "a root named wrongly", "boot.root-unknown", ROOT, "PARTLABEL=rot"},
    {MEMORY, REAL, "a kernel that is cut off", "boot.",
     "head -c 3000000 pieces/Image > cut && mv cut pieces/Image", ""},
    {EARLY, RAMDISK, "a ramdisk without a shell", "", "sed -i '/^        sh:/d' boards/curlew.yaml",
     ""},
    {LOADER, FLASH, "a script that is not sourced", "start.", CHAIN,
     "load virtio 0:1 ${scriptaddr} boot.scr"},

    {PROGRAM, REAL, "a first program for another processor", "start.",
     "rm files/sbin/init && cp /bin/true files/sbin/init", ""},
    {PROGRAM, REAL, "a first program that may not be run", "boot.first-program",
     "chmod 644 files/sbin/init", ""},
    {PROGRAM, REAL, "a root that is one folder too deep", "boot.",
     "mkdir deep && mv files deep/rootfs && mkdir files && mv deep/rootfs files/", ""},
    {PROGRAM, REAL, "a first program that is empty", "", ": > files/sbin/init", ""},
    {PROGRAM, REAL, "a first program with line ends of another system", "",
     "sed -i 's/$/\\r/' files/sbin/init", ""},
    {PROGRAM, REAL, "a folder in place of the first program", "",
     "rm files/sbin/init && mkdir files/sbin/init", ""},
    {PROGRAM, REAL, "a link that leads nowhere", "",
     "mv files/sbin/init files/sbin/start && ln -s strat files/sbin/init", ""},
    {PROGRAM, REAL, "a shell that may not be run", "", "chmod 644 files/bin/busybox", ""},
    {PROGRAM, REAL, "a shell for another processor", "", "cp /bin/true files/bin/busybox", ""},
    {PROGRAM, REAL, "a shell whose linker is not there", "",
     "rm files/bin/sh && cp $DEBIAN/bin/dash files/bin/sh", ""},
    {PROGRAM, REAL, "a first program that is where a ramdisk has it", "boot.first-program",
     "mv files/sbin/init files/init", ""},

    {ARGUMENTS, REAL, "a root by its label", "boot.root-unknown", ROOT, "LABEL=root"},
    {ARGUMENTS, REAL, "a root of another medium", "boot.root-unknown", ROOT, "\\/dev\\/mmcblk0p2"},
    {ARGUMENTS, REAL, "a root of another kind", "start.system", ROOT, "<root>, rootfstype: vfat"},
    {ARGUMENTS, REAL, "a first program at another place", "boot.first-program", ROOT,
     "<root>, init: \\/sbin\\/start"},
    {ARGUMENTS, REAL, "arguments that name no root", "boot.root-unknown",
     "sed -i 's/root: <root>, //' boards/curlew.yaml", ""},
    {ARGUMENTS, REAL, "a console that is not there", "console.",
     "sed -i 's/console: <console>/console: ttyS3/' boards/curlew.yaml", ""},
    {ARGUMENTS, REAL, "a partition that is not there", "", ROOT, "\\/dev\\/nvme0n1p7"},
    {ARGUMENTS, REAL, "the boot volume as root", "", ROOT, "\\/dev\\/nvme0n1p1"},
    {ARGUMENTS, REAL, "a whole medium as root", "", ROOT, "\\/dev\\/nvme0n1"},
    {ARGUMENTS, REAL, "a root by the identifier of its volume", "", ROOT,
     "UUID=0b9619ff-8b86-d011-b42d-00cf4fc964ff"},
    {ARGUMENTS, REAL, "a link of a running system as root", "", ROOT,
     "\\/dev\\/disk\\/by-label\\/root"},
    {ARGUMENTS, REAL, "a root from the network without an address", "", ROOT, "\\/dev\\/nfs"},
    {ARGUMENTS, REAL, "a partition with a letter of another kind", "", ROOT, "\\/dev\\/nvme0n1-2"},

    {MEMORY, REAL, "a tree over the kernel", "ram.overlap", ENTRY,
     "addresses: {kernel: 0x40400000, tree: 0x40800000}"},
    {MEMORY, REAL, "a kernel in another form", "boot.format",
     "sed -i 's/file: pieces.Image/file: tree\\/machine.dtb/' boards/curlew.yaml", ""},
    {MEMORY, REAL, "a kernel address over the loader", "ram.", ENTRY,
     "addresses: {kernel: 0x5e000000}"},
    {MEMORY, REAL, "kernel and tree at one address", "ram.", ENTRY,
     "addresses: {kernel: 0x42000000, tree: 0x42000000}"},
    {MEMORY, REAL, "a tree at the kernel's end", "ram.", ENTRY,
     "addresses: {kernel: 0x42000000, tree: 0x43800000}"},
    {MEMORY, REAL, "a tree outside of RAM", "ram.", ENTRY, "addresses: {tree: 0x30000000}"},
    {MEMORY, REAL, "a kernel behind the end of RAM", "ram.", ENTRY,
     "addresses: {kernel: 0x70000000}"},
    {MEMORY, REAL, "a kernel of another processor", "boot.",
     "cp $MOSAICUM_PEERS_CACHE/arm/boot/vmlinuz-* pieces/Image", ""},
    {MEMORY, REAL, "a kernel packed in a form that the loader does not expand", "boot.",
     "xz pieces/Image && mv pieces/Image.xz pieces/Image", ""},
    {MEMORY, REAL, "an empty kernel", "", ": > pieces/Image", ""},
    {MEMORY, REAL, "a page from a server in place of the kernel", "",
     "printf '<html>404 not found</html>' > pieces/Image", ""},
    {MEMORY, REAL, "the tree of another board", "",
     "sed -i 's/machine.dtb/curlew.dts/' boards/curlew.yaml", ""},

    {EARLY, RAMDISK, "a ramdisk's first program that may not be run", "",
     "sed -i 's/mode: \"0755\"/mode: \"0644\"/' boards/curlew.yaml", ""},
    {EARLY, RAMDISK, "a ramdisk's first program that is empty", "", ": > early-init", ""},
    {EARLY, RAMDISK, "a ramdisk's first program with line ends of another system", "",
     "sed -i 's/$/\\r/' early-init", ""},
    {EARLY, RAMDISK, "a ramdisk's first program for a shell that is not there", "",
     "sed -i '1s/sh/ash/' early-init", ""},
    {EARLY, RAMDISK, "a ramdisk without a first program", "",
     "sed -i '/^        first:/d' boards/curlew.yaml", ""},
    {EARLY, RAMDISK, "a ramdisk's first program where a root has it", "",
     "sed -i 's/to: .init,/to: \\/sbin\\/init,/' boards/curlew.yaml", ""},
    {EARLY, RAMDISK, "a ramdisk with programs of another processor", "",
     "cp /bin/true files/bin/busybox", ""},
    {EARLY, RAMDISK, "a ramdisk's shell that leads nowhere", "",
     "sed -i 's/sh: {link: busybox/sh: {link: busybx/' boards/curlew.yaml", ""},
    {EARLY, RAMDISK, "a ramdisk's shell whose linker is not there", "",
     "cp $DEBIAN/bin/dash files/bin/busybox", ""},
    {EARLY, RAMDISK, "a ramdisk's programs that may not be run", "", "chmod 644 files/bin/busybox",
     ""},
    {EARLY, RAMDISK, "a ramdisk over the kernel", "", ENTRY,
     "addresses: {kernel: 0x42000000, ramdisk: 0x42800000, tree: 0x4a000000}"},
    {EARLY, RAMDISK, "a ramdisk outside of RAM", "", ENTRY, "addresses: {ramdisk: 0x30000000}"},

    {LOADER, FLASH, "a script on another partition", "start.", CHAIN,
     "load virtio 0:2 ${scriptaddr} boot.scr; source ${scriptaddr}"},
    {LOADER, FLASH, "a script of another name", "start.", CHAIN,
     "load virtio 0:1 ${scriptaddr} boot.scx; source ${scriptaddr}"},
    {LOADER, FLASH, "a variable with a slip", "", CHAIN,
     "load virtio 0:1 ${scriptadr} boot.scr; source ${scriptadr}"},
    {LOADER, FLASH, "a script that is sourced elsewhere", "start.", CHAIN,
     "load virtio 0:1 ${scriptaddr} boot.scr; source 0x48000000"},
    {LOADER, FLASH, "a medium that is not there", "start.", CHAIN,
     "load virtio 1:1 ${scriptaddr} boot.scr; source ${scriptaddr}"},
    {LOADER, FLASH, "a medium of another kind", "start.", CHAIN,
     "load mmc 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}"},
    {LOADER, FLASH, "a script in a folder that is not there", "start.", CHAIN,
     "load virtio 0:1 ${scriptaddr} \\/boot\\/boot.scr; source ${scriptaddr}"},
    {LOADER, FLASH, "two commands that run into one", "start.", CHAIN,
     "load virtio 0:1 ${scriptaddr} boot.scr source ${scriptaddr}"},
    {LOADER, FLASH, "a condition without its word", "start.", CHAIN,
     "if load virtio 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}; fi"},
    {LOADER, FLASH, "a command with a slip", "start.", CHAIN,
     "load virtio 0:1 ${scriptaddr} boot.scr; sorce ${scriptaddr}"},
    {LOADER, FLASH, "a variable that nobody sets", "", CHAIN, "run load_it_all"},
    {LOADER, FLASH, "a loader that waits for somebody", "",
     "sed -i 's/bootdelay: 0/bootdelay: -1/' boards/curlew.yaml", ""},
    {LOADER, FLASH, "a script over the loader", "",
     "sed -i 's/scriptaddr: \"0x40200000\"/scriptaddr: \"0x5ff00000\"/' boards/curlew.yaml", ""},
};
enum { COUNT = sizeof mistakes / sizeof *mistakes };

/* Does check find it, by that rule? */
static bool is_found(const char *w, const char *rule) {
    int status;
    bool found = false;
    size_t i;
    json_t *d = run_json(&status, "-w '%s' check curlew", w), *f;
    json_array_foreach(json_object_get(d, "findings"), i, f) {
        bool error = strcmp(json_string_value(json_object_get(f, "severity")), "error") == 0;
        found |= error && (!rule || strncmp(json_string_value(json_object_get(f, "rule")), rule,
                                            strlen(rule)) == 0);
    }
    json_decref(d);
    return found;
}

/* Does the root's first program (in the flash's case: the stand-in kernel) say its word? */
static bool comes_up(enum base base, const char *w) {
    static const char *const devices[BASES] = {"nvme,serial=x", "virtio-blk-pci", "virtio-blk-pci"};
    static const char *const typed[BASES] = {
        "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r",
        "load virtio 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r", NULL};
    const char *word = base == FLASH ? "stand-in kernel: started" : "marker-root";
    if (base == FLASH)
        machine_with(NULL, keep(path_in(w, "out/curlew/flash.img")));
    struct machine *m =
        machine_start("arm64", keep(path_in(w, "out/curlew/card.img")), devices[base]);
    bool ok = machine_expect(m, base == FLASH ? "DRAM:" : "stop autoboot", 40);
    if (typed[base]) {
        machine_type(m, "\003\003\003\recho sy''nc\r");
        ok = ok && machine_expect(m, "\nsync", 20) && machine_expect(m, "\n=> ", 20);
        machine_type(m, typed[base]);
    }
    char *text = machine_until_one(
        m,
        (const char *const[]){word, "Kernel panic", "did not start", "\n=> ", "\nresetting", NULL},
        base == FLASH ? 12 : SECONDS);
    ok = ok && strstr(text, word);
    free(text);
    machine_stop(m);
    return ok;
}

static const char early_init[] =
    "#!/bin/sh\nmount -t proc proc /proc\nmount -t devtmpfs dev /dev\n"
    "while read -r m; do insmod $m; done < /load-order\n"
    "mount -t ext4 -o ro /dev/vda2 /mnt\nexec switch_root /mnt /sbin/init\n";

static void make_base(enum base base, const char *w) {
    if (base == FLASH) {
        make_flash_workspace(w);
        CU_ASSERT_TRUE_FATAL(runs(
            0,
            "cd '%s' && sed -i -e 's/bootdelay: 0}/bootdelay: 0, scriptaddr: \"0x40200000\", "
            "bootcmd: \"load virtio 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\"}/; s/via: "
            "environment/via: script/; s/^pieces:/&\\n  rootfs: {file: pieces\\/rootfs.tar.gz}/; "
            "s/kind: ext4, label: root}/kind: ext4, label: root, fills: {all: {archive: "
            "rootfs}}}/' "
            "boards/curlew.yaml && rm -rf out mosaicum.pins && mkdir -p files && zstd -dc "
            "'%s/demo/saltmarsh/pieces/rootfs.tar.zst' | tar -x -C files && tar -C files -czf "
            "pieces/rootfs.tar.gz . && '%s' --no-cache check || true",
            w, MOSAICUM_SOURCE, MOSAICUM_PROGRAM));
        return;
    }
    if (base == RAMDISK) {
        make_module_workspace(w);
        write_text(path_in(w, "early-init"), early_init);
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s' && sed -i -e 's/^      init: yes/      folders: [dev, proc, mnt]/' -e "
                 "'s/^        all: "
                 "{in: rootfs/        first: {file: early-init, to: \\/init, mode: "
                 "\"0755\"}\\n&/' boards/curlew.yaml",
                 w));
    } else {
        make_real_workspace(w);
    }
    CU_ASSERT_TRUE_FATAL(runs(
        0, "cd '%s' && sed -i 's/, quiet\\]/]/' boards/curlew.yaml && rm -f mosaicum.pins", w));
}

/* Found where it is one, and true: nothing comes up; and the other way round. */
static bool is_true(const char *const *bases, size_t i) {
    const char *w = keep(test_folder("mistake"));
    copy_folder(bases[mistakes[i].base], w);
    char edit[1000];
    snprintf(edit, sizeof edit, mistakes[i].edit, mistakes[i].word);
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && export MOSAICUM_PEERS_CACHE='%s' && export "
                              "DEBIAN=$MOSAICUM_PEERS_CACHE/root && { %s; } && tar "
                              "--numeric-owner --owner=0 --group=0 -czf pieces/rootfs.tar.gz -C "
                              "files .",
                              w, peers_cache(), edit));
    bool found = is_found(w, mistakes[i].rule);
    /* twice: the board is started only once nothing else is left */
    struct outcome o =
        run_shell("cd '%s' && for i in 1 2; do '%s' --no-cache -q check --accept curlew; done; "
                  "'%s' --no-cache -q build curlew",
                  w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
    bool built = exists(path_in(w, "out/curlew/card.img"));
    bool up = built && comes_up(mistakes[i].base, w);
    bool good = built && (mistakes[i].rule ? found && !up : !found && up);
    if (!good)
        fprintf(stderr, "\n%s: found %d, built %d, comes up %d\n%.2000s%.2000s\n", mistakes[i].name,
                found, built, up, o.out, o.err);
    outcome_free(&o);
    remove_folder(w);
    return good;
}

static void what_is_found_is_true(void) {
    const char *bases[BASES];
    size_t tried = 0, right = 0, of[FAMILIES] = {0};
    for (enum base b = 0; b < BASES; b++) {
        bases[b] = keep(test_folder("real-mistakes"));
        make_base(b, bases[b]);
    }
    for (size_t i = 0; i < COUNT; i += peers_all() ? 1 : (COUNT + SAMPLE - 1) / SAMPLE) {
        bool good = is_true(bases, i);
        tried++;
        right += good;
        of[mistakes[i].family] += good;
    }
    CU_ASSERT_EQUAL(right, tried);
    for (size_t f = 1; f < FAMILIES; f++)
        printf("%s: %zu\n", family_names[f], of[f]);
    proved("mistakes that check finds, booted for real",
           "%zu of %zu: with the mistake nothing comes up, without it it does (root %zu, arguments "
           "%zu, kernel and RAM %zu, ramdisk %zu, loader %zu)",
           right, tried, of[PROGRAM], of[ARGUMENTS], of[MEMORY], of[EARLY], of[LOADER]);
}

SUITE(mistakes_suite, {"what is found is true", what_is_found_is_true});
