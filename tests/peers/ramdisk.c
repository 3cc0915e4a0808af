/* Ramdisks that we make from a list, and compressed kernels, on a real loader and a real kernel. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

/* The board that boots a real kernel, from a disk that this kernel has only modules for. */
void make_module_workspace(const char *w) {
    make_real_workspace(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && gzip -9n < pieces/Image > pieces/Image.gz && rm pieces/Image && "
        "tar -C '%s/kernel' --numeric-owner --owner=0 --group=0 -cf pieces/modules.tar lib/modules",
        w, peers_cache()));
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && sed -i 's/nvme/virtio/g' loader/defaults.txt && sed -i -e '/^      env: "
             "/d; /^  environments:/d; /^    main: {base: "
             "defaults/d; s/loader: nvme 0/loader: virtio 0/; s/kernel: "
             "nvme0n1/kernel: "
             "vda/' -e 's/pieces\\/Image/pieces\\/Image.gz/' -e 's/^      tree: main/&\\n      "
             "ramdisk: early/' -e '/^  rootfs:/r /dev/stdin' boards/curlew.yaml << 'END'\n"
             "  modules: {file: pieces/modules.tar}\n"
             "  early:\n"
             "    ramdisk:\n"
             "      init: yes\n"
             "      modules: {in: modules, names: [virtio-blk, virtio_pci, ext4]}\n"
             "      files:\n"
             "        all: {in: rootfs, path: bin/busybox, to: /bin/busybox}\n"
             "        sh: {link: busybox, to: /bin/sh}\n"
             "        mount: {link: busybox, to: /bin/mount}\n"
             "        cat: {link: busybox, to: /bin/cat}\n"
             "        sleep: {link: busybox, to: /bin/sleep}\n"
             "        insmod: {link: busybox, to: /bin/insmod}\n"
             "        switch: {link: busybox, to: /bin/switch_root}\n"
             "END\n",
             w));
}

static void a_ramdisk_from_a_list_finds_the_root(void) {
    const char *w = keep(test_folder("ramdisk"));
    make_module_workspace(w);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w));
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "virtio-blk-pci");
    CU_ASSERT_TRUE(machine_expect(m, "Entry main", 60) &&
                   machine_expect(m, "Starting kernel", 60) &&
                   machine_expect(m, "marker-root /dev/vda2 / ext4", 90) &&
                   machine_expect(m, "marker-arguments root=PARTUUID=", 10));
    machine_stop(m);
    int status;
    json_t *d = run_json(&status,
                         "rehearse '%s' --cpu arm64 --ram-start 0x40000000 --ram '512 MiB' "
                         "--loader /usr/lib/u-boot/qemu_arm64/u-boot.bin --as 'virtio 0'",
                         path_in(w, "out/curlew/card.img"));
    CU_ASSERT_EQUAL(status, 0); /* the rehearsal says so, too */
    json_decref(d);
    /* the same in one parcel, whose kernel the loader expands after it has looked at its hash */
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && sed -i 's/via: script/via: parcel/' boards/curlew.yaml "
                              "&& '%s' --no-cache -q build",
                              w, MOSAICUM_PROGRAM));
    m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "virtio-blk-pci");
    CU_ASSERT_TRUE(machine_expect(m, "Verifying Hash Integrity ... sha256+ OK", 60) &&
                   machine_expect(m, "Uncompressing Kernel Image", 20) &&
                   machine_expect(m, "marker-root /dev/vda2 / ext4", 120));
    machine_stop(m);
    proved(
        "a compressed kernel with a ramdisk made from a list",
        "gzip, by script and by parcel; virtio modules in their order, our /init finds the root");
    remove_folder(w);
}

/* Recovery: kernel and ramdisk compressed by a key, the ramdisk out of an archive, one budget. */
static void a_recovery_boots(void) {
    const char *w = keep(test_folder("recovery"));
    make_real_workspace(w);
    write_text(
        path_in(w, "rescue/init"),
        "#!/bin/sh\n/bin/busybox mount -t proc proc /proc\necho marker-recovery $(/bin/busybox "
        "cat /etc/water) $(/bin/busybox uname -m)\n/bin/busybox sleep 60\n");
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && chmod 755 rescue/init && mkdir -p rescue/bin rescue/proc rescue/dev rescue/etc "
        "&& "
        "echo low > rescue/etc/water && cp files/bin/busybox rescue/bin/ && ln -s busybox "
        "rescue/bin/sh && mknod -m 600 rescue/dev/console c 5 1 && tar --owner=0 --group=0 -C "
        "rescue "
        "-cf pieces/rescue.tar . && sed -i -e 's/kernel: {file: pieces.Image}/plain: {file: "
        "pieces\\/Image, license: GPL-2.0-only}\\n  rescue: {file: pieces\\/rescue.tar, license: "
        "GPL-2.0-only}\\n  early: {license: GPL-2.0-only, ramdisk: {archive: rescue, compress: "
        "zst}}\\n"
        "  kernel: {license: GPL-2.0-only, packed: {compress: gz, parts: {kernel: plain}}}/' -e "
        "'s/^   "
        "   tree: main/&\\n      ramdisk: early/; s/^  via: script/&\\n  until: loader/' "
        "boards/curlew.yaml && printf 'budgets: {recovery: {of: [kernel, early], limit: 24 "
        "MB}}\\n' >> "
        "boards/curlew.yaml && '%s' --no-cache -q build && '%s' show budgets | grep recovery",
        w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM));
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    CU_ASSERT_TRUE(ok && machine_expect(m, "Starting kernel", 40) &&
                   machine_expect(m, "marker-recovery low aarch64", 90));
    machine_stop(m);
    proved(
        "a recovery within a size goal",
        "kernel in gzip and ramdisk in zstd by keys, out of an archive: a real kernel starts its "
        "/init");
    remove_folder(w);
}

/* ---- from a server ---- */

static void a_board_boots_from_a_server(void) {
    const char *w = keep(test_folder("server"));
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && sed -i 's/^boot:$/&\\n  network: {automatic: yes, folder: jetty}/' "
             "boards/curlew.yaml && '%s' --no-cache -q build && mkdir srv && cp -r out/curlew "
             "srv/jetty && rm srv/jetty/card.img",
             w, MOSAICUM_PROGRAM));
    machine_with_server(keep(path_in(w, "srv")));
    struct machine *m = machine_start("arm64", path_in(w, "out/curlew/card.img"), "virtio-blk-pci");
    bool ok = machine_expect(m, "autoboot", 40);
    machine_type(m, "\003\003");
    machine_type(m, "\recho sy''nc\r");
    ok = ok && machine_expect(m, "\nsync", 20) && machine_expect(m, "\n=> ", 20);
    machine_type(m, "setenv autoload no; dhcp; tftpboot ${scriptaddr} jetty/network-boot.scr; "
                    "source ${scriptaddr}\r");
    CU_ASSERT_TRUE(ok && machine_expect(m, "Filename 'jetty/kernel'", 60) &&
                   machine_expect(m, "Filename 'jetty/main.dtb'", 30) &&
                   machine_expect(m, "stand-in kernel: started", 30) &&
                   machine_expect(m, "model: Saltmarsh Curlew tide gauge", 20));
    machine_stop(m);
    proved("a boot from a server", "the real loader takes kernel and tree over TFTP by our script");
}

SUITE(ramdisk_suite, {"a recovery boots", a_recovery_boots},
      {"a board boots from a server", a_board_boots_from_a_server},

      {"a ramdisk from a list finds the root", a_ramdisk_from_a_list_finds_the_root});
