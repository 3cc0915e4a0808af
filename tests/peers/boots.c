/* The real loader and a real kernel start what we built. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

/* The three boards of the demo as they are: their stand-in kernels print what they were given. */
static const struct {
    const char *selector, *cpu, *image, *device;
    bool scan; /* this loader looks for disks only when told */
    const char *lines[6];
} boards[] = {
    {"curlew+bench",
     "arm64",
     "card.img",
     "virtio-blk-pci",
     false,
     {"model: Saltmarsh Curlew tide gauge",
      "arguments: root=PARTUUID=", "console=tty0 console=ttyAMA0,115200 loglevel=7 rootwait ro",
      "gauge: tide gauge on uart1", "depth: pressure sensor on i2c0", "powering off"}},
    {"dunlin",
     "arm",
     "card.img",
     "virtio-blk-device",
     false,
     {"model: Saltmarsh Dunlin bird counter", "arguments: root=PARTUUID=bc25c9dc-02",
      "mtdparts=4000000.flash:64k(first),448k(loader),64k(env)", "counter: counter inputs on gpio0",
      "powering off", "powering off"}},
    {"avocet+field",
     "riscv64",
     "emmc.img",
     "virtio-blk-device",
     true,
     {"model: Saltmarsh Avocet mast gateway", "arguments: panic=10",
      "root=PARTUUID=", "console=ttyS0,115200 init=/sbin/init loglevel=4 rootwait ro",
      "radio: radio on spi0", "powering off"}},
};

static bool board_boots(size_t b, const char *out) {
    struct machine *m = machine_start(
        boards[b].cpu, keep(path_in(out, "%s/%s", boards[b].selector, boards[b].image)),
        boards[b].device);
    bool ok = true;
    if (boards[b].scan) {
        ok = machine_expect(m, "stop autoboot", 60);
        machine_type(m, "\003\003\003");
        ok = ok && machine_expect(m, "=> ", 20);
        machine_type(m, "virtio scan; run bootcmd_virtio0\r");
    }
    ok = ok && machine_expect(m, "Found U-Boot script /boot.scr", 60) &&
         machine_expect(m, "Entry main", 20) && machine_expect(m, "stand-in kernel: started", 30);
    size_t last = boards[b].lines[4] == boards[b].lines[5] ? 5 : 6;
    for (size_t i = 0; i < last && ok; i++)
        ok = machine_expect(m, boards[b].lines[i], 20);
    machine_stop(m);
    return ok;
}

static void the_demo_boots(void) {
    enum { BOARDS = sizeof boards / sizeof *boards };
    const char *out = test_folder("demo");
    for (size_t b = 0; b < BOARDS; b++) {
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "'%s' --no-cache -q -w '%s/demo/saltmarsh' build %s --out '%s'",
                                  MOSAICUM_PROGRAM, MOSAICUM_SOURCE, boards[b].selector, out));
        CU_ASSERT_TRUE(board_boots(b, out));
    }
    proved("the demo's three boards in QEMU",
           "arm64, arm, riscv64: real loader, our script, kernel with merged tree and arguments");
}

static const char init_text[] =
    "#!/bin/sh\n"
    "/bin/busybox mount -t proc proc /proc\n"
    "/bin/busybox mount -t sysfs sys /sys\n"
    "/bin/busybox mount -t devtmpfs dev /dev\n"
    "echo marker-root $(/bin/busybox grep ' / ' /proc/mounts)\n"
    "echo marker-arguments $(/bin/busybox cat /proc/cmdline)\n"
    "echo marker-tree $(/bin/busybox cat /proc/device-tree/gauge/saltmarsh,gauge) and "
    "$(/bin/busybox cat /proc/device-tree/pl011@9000000/saltmarsh,note)\n"
    "echo marker-file $(/bin/busybox md5sum /etc/large)\n"
    "for m in fat nls_cp437 nls_ascii vfat; do /bin/busybox insmod /mods/$m.ko; done\n"
    "/bin/busybox mount -t vfat -o ro /dev/nvme0n1p1 /mnt\n"
    "echo marker-fat $(/bin/busybox cat /mnt/Notes* /mnt/deep/er/* /mnt/boot.scr /mnt/kernel | "
    "/bin/busybox md5sum)\n"
    "echo marker-end\n"
    "/bin/busybox poweroff -f\n";

static const char overlay_text[] =
    "/dts-v1/;\n/plugin/;\n\n&{/} {\n\tgauge {\n\t\tcompatible = \"saltmarsh,tide-gauge\";\n"
    "\t\tsaltmarsh,gauge = \"tide gauge\";\n\t};\n};\n\n"
    "&{/pl011@9000000} {\n\tsaltmarsh,note = \"console of the jetty\";\n};\n";

/* Puts a real kernel, a busybox root and the machine's own tree into a copy of the demo. */
void make_real_workspace(const char *w) {
    copy_demo(w);
    write_text(path_in(w, "files/init-text"), init_text);
    write_text(path_in(w, "overlays/pressure.dtso"), overlay_text);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir -p files/mnt files/mods notes/deep/er && cp "
        "'%s'/kernel/lib/modules/*/kernel/fs/fat/*fat.ko "
        "'%s'/kernel/lib/modules/*/kernel/fs/nls/nls_cp437.ko "
        "'%s'/kernel/lib/modules/*/kernel/fs/nls/nls_ascii.ko files/mods/ && head -c 100000 "
        "/dev/urandom > 'notes/Notes of the highest Tide, Höhe in mm.txt' && head -c 5000 "
        "/dev/urandom > notes/deep/er/short.txt && "
        "mkdir -p files/bin files/sbin files/dev files/proc files/sys files/etc && "
        "mv files/init-text files/sbin/init && chmod 755 files/sbin/init && cp "
        "'%s/busybox/bin/busybox' files/bin/ && "
        "ln -s busybox files/bin/sh && mknod -m 600 files/dev/console c 5 1 && "
        "head -c 3000000 /dev/urandom > files/etc/large && "
        "tar --numeric-owner --owner=0 --group=0 -czf pieces/rootfs.tar.gz -C files . && "
        "cp '%s/Image' pieces/Image && rm -f pieces/rootfs.tar.zst pieces/linux.tar.zst && "
        "qemu-system-aarch64 -M virt,dumpdtb=tree/machine.dtb -cpu cortex-a57 -m 512 -display none "
        "-bios /usr/lib/u-boot/qemu_arm64/u-boot.bin -nic none",
        w, peers_cache(), peers_cache(), peers_cache(), peers_cache(), peers_cache()));
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && sed -i 's/mmc 0/nvme 0/; s/devtype mmc/devtype nvme/; s/mmc0/nvme0/' "
        "loader/defaults.txt && sed -i -e 's/{boot: {made: boot}}/{boot: {made: boot}, notes: "
        "{folder: "
        "notes}}/' -e 's/kind: sd/kind: disk/; s/loader: mmc 0/loader: nvme 0/; "
        "s/kernel: mmcblk0/kernel: nvme0n1/; s/, node: .mmc@4020000//; "
        "s/saltmarsh,curlew/linux,dummy-virt/' "
        "-e 's/linux: {file: .*/kernel: {file: pieces\\/Image}/' -e '/kernel: {in: linux/d' "
        "-e 's/rootfs.tar.zst/rootfs.tar.gz/' -e 's/tree\\/curlew.dts/tree\\/machine.dtb/' -e "
        "'/rs485:/d' "
        "-e '/modules: {archive/d' -e 's/\\[tty0, <console>\\]/<console>/; s/\\[rootwait, "
        "ro\\]/[rootwait, ro, quiet]/' "
        "boards/curlew.yaml && v=$(ls '%s/kernel/lib/modules') && sed -i \"s/release: .*/release: "
        "$v/\" boards/curlew.yaml && sed -i \"s/LOCALVERSION=.*/LOCALVERSION=\\\"-${v#*-}\\\"/\" "
        "kernel/curlew.config",
        w, peers_cache()));
}

/* The same kernel by the other ways; typed by hand where the loader does not search by itself. */
static void other_ways(const char *w, const char *arguments) {
    static const struct {
        const char *via, *type, *sign;
    } ways[] = {{"menu",
                 "setenv fdt_addr_r 0x48000000; nvme scan; sysboot nvme 0:1 any ${scriptaddr} "
                 "/extlinux/extlinux.conf\r",
                 "append: root=PARTUUID="},
                {"parcel",
                 "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r",
                 "Verifying Hash Integrity ... sha256+ OK"}};
    for (size_t i = 0; i < 2; i++) {
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "cd '%s' && sed -i '/until:/d; s/via: .*/via: %s\\n  until: "
                                  "loader/' boards/curlew.yaml && "
                                  "'%s' --no-cache -q build",
                                  w, ways[i].via, MOSAICUM_PROGRAM));
        struct machine *m =
            machine_start("arm64", path_in(w, "out/curlew/card.img"), "nvme,serial=x");
        bool ok = machine_expect(m, "stop autoboot", 40);
        machine_type(m, "\003\003\003");
        ok = ok && machine_expect(m, "=> ", 20);
        machine_type(m, ways[i].type);
        ok = ok && machine_expect(m, ways[i].sign, 20) &&
             machine_expect(m, "Starting kernel", 20) &&
             machine_expect(m, "marker-root /dev/root / ext4", 60) &&
             machine_expect(m, arguments, 10) &&
             machine_expect(m, "marker-tree tide gauge and console of the jetty", 10);
        CU_ASSERT_TRUE(ok);
        machine_stop(m);
    }
    proved("the same kernel by menu and by parcel",
           "the loader reads our menu; it checks every hash of our parcel");
}

/* A text with settings, read from the volume by somebody who knows nothing else of the board: the
 * loader stands in for a firmware. */
static void by_settings(const char *w, const char *arguments) {
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && cp boards/curlew.yaml before.yaml && sed -i 's/{boot: {made: boot}, /&"
             "firmware: {to: firmware.txt, text: \"kernel=<kernel>\\\\ntree=<tree>\\\\n"
             "arguments=<arguments>\", lines: {files: [kernel, tree], arguments: [arguments]}}, "
             "/' boards/curlew.yaml && '%s' --no-cache -q build && mv before.yaml "
             "boards/curlew.yaml",
             w, MOSAICUM_PROGRAM));
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} firmware.txt; env import -t "
                    "${scriptaddr} ${filesize}\r");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "load nvme 0:1 ${kernel_addr_r} ${kernel}; load nvme 0:1 48000000 ${tree}; "
                    "setenv bootargs ${arguments}; booti ${kernel_addr_r} - 48000000\r");
    CU_ASSERT_TRUE(ok && machine_expect(m, "Starting kernel", 20) &&
                   machine_expect(m, "marker-root /dev/root / ext4", 60) &&
                   machine_expect(m, arguments, 10) &&
                   machine_expect(m, "marker-tree tide gauge and console of the jetty", 10));
    machine_stop(m);
    proved("the same kernel by a text of settings",
           "read from the volume by a loader that knows nothing else: files and arguments");
}

/* The line that show gives, as it stands, in a shell. */
static void by_the_line(const char *w, const char *sum) {
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && cp boards/curlew.yaml before.yaml && sed -i 's/^hardware:/&\\n  emulator: "
        "{disk: nvme}/' boards/curlew.yaml && '%s' --no-cache -q build && PATH=$(dirname "
        "'%s'):$PATH && mosaicum show curlew emulator > line && mv before.yaml "
        "boards/curlew.yaml && { timeout 60 sh line </dev/null >log 2>&1 & } && for i in $(seq "
        "120); do grep -q marker-end log && break; sleep 0.5; done; kill $!; grep -q "
        "'marker-root /dev/root / ext4' log && grep -q '%s' log || { cat line; tail log; "
        "false; }",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, sum));
    proved("the same image by the line of show emulator", "kernel and arguments beside the image");
}

static void a_real_kernel_boots(void) {
    const char *w = keep(test_folder("real"));
    char sum[200], id[100] = "";
    make_real_workspace(w);
    struct outcome differs = run_shell(
        "diff -U0 '%s/tests/data/curlew.yaml' '%s/boards/curlew.yaml'", MOSAICUM_SOURCE, w);
    printf("\nThe board that boots a real kernel differs from the demo in this:\n%s", differs.out);
    outcome_free(&differs);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -w '%s' build", MOSAICUM_PROGRAM, w));
    struct outcome o = run_shell("md5sum < '%s/files/etc/large'", w);
    snprintf(sum, sizeof sum, "marker-file %.32s", o.out);
    outcome_free(&o);
    char fat[200];
    o = run_shell("cd '%s' && cat notes/Notes* notes/deep/er/* out/curlew/boot.scr pieces/Image | "
                  "md5sum",
                  w);
    snprintf(fat, sizeof fat, "marker-fat %.32s", o.out);
    outcome_free(&o);
    o = run_shell("sfdisk -d '%s/out/curlew/card.img' | sed -n 's/.*uuid=\\([0-9A-F-]*\\), "
                  "name=\"root\".*/\\1/p' | tr A-F a-f",
                  w);
    sscanf(o.out, "%99s", id);
    outcome_free(&o);
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "nvme,serial=x");
    /* started by hand: the script takes the device from the definition */
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    char arguments[200];
    snprintf(arguments, sizeof arguments,
             "marker-arguments root=PARTUUID=%s console=ttyAMA0,115200 rootwait ro quiet", id);
    CU_ASSERT_TRUE(
        ok && machine_expect(m, "Entry main", 20) && machine_expect(m, "Starting kernel", 20) &&
        machine_expect(m, "marker-root /dev/root / ext4", 60) && machine_expect(m, arguments, 10) &&
        machine_expect(m, "marker-tree tide gauge and console of the jetty", 10) &&
        machine_expect(m, sum, 10) && machine_expect(m, fat, 20) &&
        machine_expect(m, "marker-end", 10));
    machine_stop(m);
    proved("a Debian arm64 kernel in QEMU",
           "our script, merged tree, arguments, ext4 root by PARTUUID; it mounts our FAT32 and "
           "reads the same bytes");
    by_settings(w, arguments);
    by_the_line(w, sum);
    other_ways(w, arguments);
    remove_folder(w);
}

SUITE(boots_suite, {"the demo boots", the_demo_boots},
      {"a real kernel boots", a_real_kernel_boots});
