/* The real loader and a real kernel start what we built. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

/* The demo as it is: its stand-in kernel prints what it was given. */
static void the_demo_boots(void) {
    const char *out = test_folder("demo");
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "'%s' --no-cache -q -w '%s/demo/saltmarsh' build curlew --out '%s'",
                              MOSAICUM_PROGRAM, MOSAICUM_SOURCE, out));
    struct machine *m = machine_start(path_in(out, "curlew/card.img"), "virtio-blk-pci");
    CU_ASSERT_TRUE(machine_expect(m, "Found U-Boot script /boot.scr", 40) &&
                   machine_expect(m, "Entry main", 10) &&
                   machine_expect(m, "stand-in kernel: started", 20) &&
                   machine_expect(m, "model: Saltmarsh Curlew tide gauge", 10) &&
                   machine_expect(m, "arguments: root=PARTUUID=", 10) &&
                   machine_expect(m, "console=tty0 console=ttyAMA0,115200 rootwait ro", 10) &&
                   machine_expect(m, "gauge: tide gauge on uart1", 10) &&
                   machine_expect(m, "depth: pressure sensor on i2c0", 10) &&
                   machine_expect(m, "powering off", 10));
    machine_stop(m);
    proved("the demo image in QEMU",
           "real loader, our script, stand-in kernel with merged tree and arguments");
}

static const char init_text[] =
    "#!/bin/sh\n"
    "/bin/busybox mount -t proc proc /proc\n"
    "/bin/busybox mount -t sysfs sys /sys\n"
    "echo marker-root $(/bin/busybox grep ' / ' /proc/mounts)\n"
    "echo marker-arguments $(/bin/busybox cat /proc/cmdline)\n"
    "echo marker-tree $(/bin/busybox cat /proc/device-tree/gauge/saltmarsh,gauge) and "
    "$(/bin/busybox cat /proc/device-tree/pl011@9000000/saltmarsh,note)\n"
    "echo marker-file $(/bin/busybox md5sum /etc/large)\n"
    "echo marker-end\n"
    "/bin/busybox poweroff -f\n";

static const char overlay_text[] =
    "/dts-v1/;\n/plugin/;\n\n&{/} {\n\tgauge {\n\t\tcompatible = \"saltmarsh,tide-gauge\";\n"
    "\t\tsaltmarsh,gauge = \"tide gauge\";\n\t};\n};\n\n"
    "&{/pl011@9000000} {\n\tsaltmarsh,note = \"console of the jetty\";\n};\n";

/* Puts a real kernel, a busybox root and the machine's own tree into a copy of the demo. */
static void make_real_workspace(const char *w) {
    copy_demo(w);
    write_text(path_in(w, "files/init-text"), init_text);
    write_text(path_in(w, "overlays/pressure.dtso"), overlay_text);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir -p files/bin files/sbin files/dev files/proc files/sys files/etc && "
        "mv files/init-text files/sbin/init && chmod 755 files/sbin/init && cp "
        "'%s/busybox/bin/busybox' files/bin/ && "
        "ln -s busybox files/bin/sh && mknod -m 600 files/dev/console c 5 1 && "
        "head -c 3000000 /dev/urandom > files/etc/large && "
        "tar --numeric-owner --owner=0 --group=0 -czf pieces/rootfs.tar.gz -C files . && "
        "cp '%s/Image' pieces/Image && rm -f pieces/rootfs.tar.zst pieces/linux.tar.zst && "
        "qemu-system-aarch64 -M virt,dumpdtb=tree/machine.dtb -cpu cortex-a57 -m 512 -display none "
        "-bios /usr/lib/u-boot/qemu_arm64/u-boot.bin -nic none",
        w, peers_cache(), peers_cache()));
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && sed -i -e 's/kind: sd/kind: disk/; s/loader: mmc 0/loader: nvme 0/; "
             "s/kernel: mmcblk0/kernel: nvme0n1/' "
             "-e 's/linux: {file: .*/kernel: {file: pieces\\/Image}/' -e '/kernel: {in: linux/d' "
             "-e 's/rootfs.tar.zst/rootfs.tar.gz/' -e 's/tree\\/curlew.dts/tree\\/machine.dtb/' -e "
             "'/rs485:/d' "
             "-e '/modules: {archive/d' -e 's/\\[tty0, <console>\\]/<console>/; s/\\[rootwait, "
             "ro\\]/[rootwait, ro, quiet]/' "
             "boards/curlew.yaml",
             w));
    struct outcome o = run_shell("diff -U0 '%s/tests/data/curlew.yaml' '%s/boards/curlew.yaml'",
                                 MOSAICUM_SOURCE, w);
    printf("\nThe board that boots a real kernel differs from the demo in this:\n%s", o.out);
    outcome_free(&o);
}

static void a_real_kernel_boots(void) {
    const char *w = test_folder("real");
    char sum[200], id[100] = "";
    make_real_workspace(w);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -w '%s' build", MOSAICUM_PROGRAM, w));
    struct outcome o = run_shell("md5sum < '%s/files/etc/large'", w);
    snprintf(sum, sizeof sum, "marker-file %.32s", o.out);
    outcome_free(&o);
    o = run_shell("sfdisk -d '%s/out/curlew/card.img' | sed -n 's/.*uuid=\\([0-9A-F-]*\\), "
                  "name=\"root\".*/\\1/p' | tr A-F a-f",
                  w);
    sscanf(o.out, "%99s", id);
    outcome_free(&o);
    struct machine *m = machine_start(path_in(w, "out/curlew/card.img"), "nvme,serial=x");
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
        machine_expect(m, sum, 10) && machine_expect(m, "marker-end", 10));
    machine_stop(m);
    proved("a Debian arm64 kernel in QEMU",
           "our script, merged tree, arguments, ext4 root by PARTUUID, marker on the serial line");
    remove_folder(w);
}

SUITE(boots_suite, {"the demo boots", the_demo_boots},
      {"a real kernel boots", a_real_kernel_boots});
