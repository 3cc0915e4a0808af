/* The first start of a board, and who gets in: a root out of Debian's packages, a real kernel, a
 * real SSH server, and a client that comes over the emulated network. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static const char inittab[] = "::sysinit:/bin/mount -t proc proc /proc\n"
                              "::sysinit:/bin/mount -o remount,rw /\n"
                              "::sysinit:/bin/mount -t sysfs sys /sys\n"
                              "::sysinit:/bin/mount -t devtmpfs dev /dev\n"
                              "::sysinit:/bin/mkdir -p /dev/pts /run/sshd /var/run /var/log\n"
                              "::sysinit:/bin/mount -t devpts devpts /dev/pts\n"
                              "::sysinit:/sbin/modprobe -a virtio_pci virtio_net\n"
                              "::respawn:/usr/sbin/sshd -D -e\n";

static const char udhcpc[] =
    "#!/bin/sh\ncase $1 in bound | renew)\n    ip addr flush dev $interface\n"
    "    ip addr add $ip/$mask dev $interface\n    [ -n \"$router\" ] && ip "
    "route add default via $router\n    ;;\nesac\n";

/* What the server is linked with, and those with. */
static const char *const libraries[] = {
    "libc6",       "libcrypt1",   "zlib1g",        "libssl3",      "libpam0g",
    "libaudit1",   "libcap-ng0",  "libwrap0",      "libnsl2",      "libtirpc3",
    "libsystemd0", "libgcrypt20", "libgpg-error0", "liblzma5",     "libzstd1",
    "liblz4-1",    "libcap2",     "libselinux1",   "libpcre2-8-0", "libgssapi-krb5-2",
    "libkrb5-3",   "libcom-err2", "libk5crypto3",  "libkeyutils1", "libkrb5support0"};
enum { LIBRARIES = sizeof libraries / sizeof *libraries };

static const char board_start[] =
    "mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm64\n"
    "  ram: {main: {start: 0x40000000, sizes: [512 MiB]}}\n"
    "  console: {port: ttyAMA0, baud: 115200}\n"
    "  media: {card: {kind: disk, size: 256 MiB, loader: nvme 0, kernel: nvme0n1}}\n"
    "tree: {blobs: {main: tree/machine.dtb}}\nloader: {dialect: u-boot}\n"
    "boot:\n  via: script\n  entries:\n"
    "    main: {kernel: kernel, flags: [rootwait], tree: main, arguments: {root: <root>, console: "
    "<console>}}\n"
    "system:\n  mounts: {root: /}\n  first-start: inittab\n  time-zone: Etc/UTC\n"
    "  network: {form: interfaces, by: inittab, ports: {eth0: server}}\n"
    "  users:\n    root: {locked: yes}\n"
    "    setup: {until: first-start, locked: yes, keys: [keys/setup.pub]}\n"
    "    fen: {locked: yes, keys: [keys/fen.pub]}\n"
    "pieces:\n  linux: {file: pieces/linux.deb}\n  busybox: {file: pieces/busybox.deb}\n"
    "  kernel: {in: linux, path: boot/vmlinuz-RELEASE}\n"
    "  server: {file: pieces/server.deb}\n  client: {file: pieces/client.deb}\n"
    "  zones: {file: pieces/tzdata.deb}\n  libraries: {file: pieces/libraries.tar}\n";

static const char board_fills[] =
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      boot: {number: 1, size: 64 MiB, volume: {kind: fat32, fills: {boot: {made: boot}}}}\n"
    "      root:\n        number: 2\n        size: rest\n        volume:\n          kind: ext4\n"
    "          fills:\n            base: {folder: root}\n"
    "            busybox: {archive: busybox, except: [usr/share]}\n"
    "            server: {archive: server, except: [usr/share, etc]}\n"
    "            client: {archive: client, only: [usr/bin/ssh-keygen]}\n"
    "            zones: {archive: zones, only: [usr/share/zoneinfo/Etc]}\n";

static const char board_end[] =
    "            modules: {archive: linux, only: [lib/modules/*/kernel/drivers/virtio, "
    "lib/modules/*/kernel/drivers/net/virtio_net.ko, "
    "lib/modules/*/kernel/drivers/net/net_failover.ko, "
    "lib/modules/*/kernel/net/core/failover.ko, lib/modules/*/modules.builtin, "
    "lib/modules/*/modules.order]}\n"
    "            index: {made: module-index}\n            system: {made: system}\n";

/* A package of a library is a piece in an archive, and an archive itself. */
static void write_board(const char *w) {
    static char text[16384];
    char *p = text + sprintf(text, "%s", board_start);
    for (size_t i = 0; i < LIBRARIES; i++)
        p += sprintf(p, "  %s: {in: libraries, path: %s.deb}\n", libraries[i], libraries[i]);
    p += sprintf(p, "%s", board_fills);
    for (size_t i = 0; i < LIBRARIES; i++)
        p += sprintf(p, "            %s: {archive: %s, except: [usr/share, etc]}\n", libraries[i],
                     libraries[i]);
    sprintf(p, "%s", board_end);
    write_text(path_in(w, "boards/curlew.yaml"), text);
}

static void make_workspace(const char *w) {
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_board(w);
    write_text(path_in(w, "root/etc/passwd"),
               "root:x:0:0::/root:/bin/sh\nsshd:x:100:65534::/run/sshd:/bin/false\n");
    write_text(path_in(w, "root/etc/ssh/sshd_config"), "PasswordAuthentication no\n");
    write_text(path_in(w, "root/etc/inittab"), inittab);
    write_text(path_in(w, "root/etc/udhcpc/default.script"), udhcpc);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && p='%s'/packages && mkdir -p pieces tree keys x root/bin root/sbin root/dev "
        "root/proc root/sys root/root root/home root/run root/etc/network && chmod 755 "
        "root/etc/udhcpc/default.script && for l in sh mount sed cat cp mv rm sync mkdir tr ip id "
        "udhcpc poweroff false; do ln -s busybox root/bin/$l; done && for l in init ifup modprobe "
        "udhcpc "
        "ip; do ln -s ../bin/busybox root/sbin/$l; done && for i in up down; do mkdir -p "
        "root/etc/network/if-pre-$i.d root/etc/network/if-post-$i.d root/etc/network/if-$i.d; done "
        "&& cp $p/busybox-static_*_arm64.deb pieces/busybox.deb && cp "
        "$p/openssh-server_*_arm64.deb pieces/server.deb && cp $p/openssh-client_*_arm64.deb "
        "pieces/client.deb && cp $p/tzdata_*.deb pieces/tzdata.deb && cp "
        "$p/linux-image-*-cloud-arm64_*.deb pieces/linux.deb && for l in $(sed -n 's/.*path: "
        "\\(.*\\).deb}/\\1/p' boards/curlew.yaml); do cp $p/${l}_*_arm64.deb x/$l.deb; done && tar "
        "-cf "
        "pieces/libraries.tar -C x . && sed -i \"s/RELEASE/$(ls '%s'/kernel/lib/modules)/\" "
        "boards/curlew.yaml && for k in setup fen; do ssh-keygen -q -t ed25519 -N '' -C $k -f "
        "$k.key && cp $k.key.pub keys/$k.pub; done && "
        "qemu-system-aarch64 -M virt,dumpdtb=tree/machine.dtb -cpu cortex-a57 -m 512 -display none "
        "-bios /usr/lib/u-boot/qemu_arm64/u-boot.bin -nic none",
        w, peers_cache(), peers_cache()));
}

/* What a user of the board sees; NULL: it does not get in.  The machine's line is read meanwhile: a
 * line that nobody reads holds up the machine. */
static char *as_user(struct machine *m, const char *w, const char *name, const char *user,
                     unsigned port, const char *command) {
    static const char *const none[] = {"\001", NULL};
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && rm -f done && chmod 600 *.key && { (timeout 60 ssh -n -o ConnectTimeout=20 -o "
        "StrictHostKeyChecking=accept-new -o UserKnownHostsFile=known-%s -o IdentitiesOnly=yes -o "
        "BatchMode=yes -o HashKnownHosts=no -o HostKeyAlias=board -i %s.key -p %u %s@127.0.0.1 "
        "'%s' >seen 2>problem; echo $? >done.new; mv done.new done) & }",
        w, name, strcmp(user, "root") == 0 ? "fen" : user, port, user, command));
    char *status = NULL, *text = NULL;
    for (int i = 0; i < 70 && !status; i++) {
        free(machine_until_one(m, none, 1));
        status = read_whole(path_in(w, "done"), NULL);
    }
    if (status && strcmp(status, "0\n") == 0)
        text = read_whole(path_in(w, "seen"), NULL);
    else if (!runs(0, "grep -q 'Permission denied' '%s/problem'", w))
        CU_FAIL("neither in nor refused");
    free(status);
    char *kept = text ? keep(text) : NULL;
    free(text);
    return kept;
}

static struct machine *start(const char *w, const char *image, unsigned port) {
    machine_keeps();
    machine_reached_at(port);
    struct machine *m = machine_start("arm64", keep(path_in(w, "%s", image)), "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    CU_ASSERT_TRUE(ok && machine_expect(m, "Server listening on 0.0.0.0 port 22", 120));
    return m;
}

static void the_first_start_is_the_only_one(void) {
    const char *w = keep(test_folder("access"));
    make_workspace(w);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && '%s' --no-cache -q build && cp out/curlew/card.img one.img "
             "&& cp out/curlew/card.img other.img",
             w, MOSAICUM_PROGRAM));
    static const char identity[] = "cat /etc/machine-id; date +%Z";
    unsigned port = peers_port();
    struct machine *m = start(w, "one.img", port);
    char *first = as_user(m, w, "one", "setup", port, identity);
    CU_ASSERT_PTR_NOT_NULL_FATAL(first);
    CU_ASSERT_EQUAL(strspn(first, "0123456789abcdef"), 32);
    CU_ASSERT_PTR_NOT_NULL(as_user(m, w, "one", "fen", port, "/bin/sync"));
    CU_ASSERT_PTR_NULL(as_user(m, w, "one", "root", port, "id"));
    machine_stop(m); /* the power goes */

    port = peers_port();
    m = start(w, "one.img", port);
    char *second = as_user(m, w, "one", "fen", port, identity);
    CU_ASSERT_STRING_EQUAL(second ? second : "", first); /* and its host keys are the same */
    CU_ASSERT_PTR_NULL(as_user(m, w, "one", "setup", port, "id"));
    char *users = as_user(m, w, "one", "fen", port, "cat /etc/passwd /etc/group");
    CU_ASSERT(users && !strstr(users, "setup"));
    machine_stop(m);

    port = peers_port();
    m = start(w, "other.img", port);
    char *other = as_user(m, w, "other", "setup", port, identity);
    CU_ASSERT(other && strcmp(other, first) != 0);
    machine_stop(m);
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && [ -s known-one ] && [ -s known-other ] && ! cmp -s known-one "
                        "known-other",
                        w));
    proved("the first access to a board",
           "by keys over the network; its user is gone at the next start; each board its own host "
           "keys");
    remove_folder(w);
}

SUITE(access_suite, {"the first start is the only one", the_first_start_is_the_only_one});
