/* What the root file system is told, and who can get in: read back from built images. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

static const char *const passwd = "root:x:0:0:root:/root:/bin/sh\n"
                                  "daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin\n"
                                  "heron:x:1000:1000:Heron,,,:/home/heron:/bin/ash\n";
static const char *const shadow = "root:$6$estuary$oldsecret0123456789abcdef:20000:0:99999:7:::\n"
                                  "daemon:*:20000:0:99999:7:::\nheron:!:20000:0:99999:7:::\n";

/* A workspace whose root comes from a folder, then from the definition. */
static char *workspace(const char *name, const char *system) {
    char *w = test_folder(name), text[4096];
    snprintf(
        text, sizeof text,
        "mosaicum: 1\nboard: curlew\n"
        "hardware: {console: {port: ttyAMA0, baud: 9600}, media: {card: {kind: sd, size: 48 MiB, "
        "kernel: mmcblk0}}}\n"
        "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
        "      root: {number: 1, at: 1 MiB, size: 16 MiB, volume: {kind: ext4, fills: {base: "
        "{folder: "
        "root}, system: {made: system}}}}\n"
        "      data: {number: 2, size: rest, volume: {kind: ext4}}\n%s",
        system);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
    write_text(path_in(w, "root/etc/passwd"), passwd);
    write_text(path_in(w, "root/etc/shadow"), shadow);
    write_text(path_in(w, "root/etc/group"), "root:x:0:\ndaemon:x:1:\nheron:x:1000:\n");
    write_text(path_in(w, "root/etc/inittab"),
               "::sysinit:/bin/mount -a\nttyAMA0::askfirst:/bin/sh\n");
    write_text(path_in(w, "root/data/.keep"), "");
    write_text(path_in(w, "key.pub"), "ssh-ed25519 AAAA estuary\n");
    write_text(path_in(w, "secret"), "low water at noon\nnot this line\n");
    return w;
}

/* A file of the built root volume, by the file system's own reader; kept for the whole run. */
static const char *file_of(const char *w, const char *path) {
    struct outcome o =
        run_shell("cd '%s' && dd if=out/curlew/card.img of=root.img bs=1M skip=1 count=16 "
                  "status=none && debugfs -R 'cat %s' root.img 2>/dev/null",
                  w, path);
    const char *text = keep(o.out);
    outcome_free(&o);
    return text;
}

static bool build(const char *w) {
    return runs(0, "'%s' --no-cache -q -w '%s' build", MOSAICUM_PROGRAM, w);
}

static void users_are_merged_into_what_is_there(void) {
    char *w = workspace("users", "system:\n  host-name: jetty-7\n  users:\n"
                                 "    root: {locked: yes}\n"
                                 "    heron: {password-file: secret, shell: /bin/sh}\n"
                                 "    egret: {keys: [key.pub]}\n"
                                 "    knot: {number: 1500, group: 100, home: /var/knot, "
                                 "password-hash: \"$6$tide$abcdefghijklmnop\"}\n");
    CU_ASSERT_TRUE_FATAL(build(w));
    CU_ASSERT_STRING_EQUAL(file_of(w, "etc/passwd"),
                           "root:x:0:0:root:/root:/bin/sh\n"
                           "daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin\n"
                           "heron:x:1000:1000:Heron,,,:/home/heron:/bin/sh\n"
                           "egret:x:1001:1001::/home/egret:/bin/sh\n"
                           "knot:x:1500:100::/var/knot:/bin/sh\n");
    CU_ASSERT_STRING_EQUAL(file_of(w, "etc/group"), "root:x:0:\ndaemon:x:1:\nheron:x:1000:\n"
                                                    "egret:x:1001:\nknot:x:100:\n");
    const char *now = file_of(w, "etc/shadow");
    CU_ASSERT_EQUAL(
        strncmp(now, "root:!:20454:0:99999:7:::\ndaemon:*:20000:0:99999:7:::\nheron:$6$", 62), 0);
    CU_ASSERT_PTR_NOT_NULL(strstr(now, "egret:*:"));
    CU_ASSERT_PTR_NOT_NULL(strstr(now, "knot:$6$tide$abcdefghijklmnop:"));
    CU_ASSERT_STRING_EQUAL(file_of(w, "home/egret/.ssh/authorized_keys"),
                           "ssh-ed25519 AAAA estuary\n");
    CU_ASSERT_STRING_EQUAL(file_of(w, "etc/hostname"), "jetty-7\n");
    CU_ASSERT(runs(0,
                   "cd '%s' && debugfs -R 'stat home/egret' root.img 2>/dev/null | grep -q "
                   "'Mode:  0700' && debugfs -R 'stat home/egret/.ssh/authorized_keys' root.img "
                   "2>/dev/null | grep -q 'User:  1001'",
                   w));
    /* what was replaced, and the password itself, are nowhere in what was built */
    CU_ASSERT(runs(1, "cd '%s' && cat out/curlew/* | grep -aq 'oldsecret0123456789abcdef'", w));
    CU_ASSERT(runs(1, "cd '%s' && cat out/curlew/* | grep -aq 'low water at noon'", w));
    CU_ASSERT(
        runs(0,
             "openssl passwd -6 -salt $(grep -a heron: '%s/shadow' | cut -d'$' -f3) "
             "'low water at noon' | grep -qxF \"$(grep -a heron: '%s/shadow' | cut -d: -f2)\"",
             (write_text(path_in(w, "shadow"), now), w), w));
}

static void the_rest_is_written(void) {
    char *w = workspace(
        "told",
        "loader: {dialect: u-boot, environments: {main: {base: none, size: 16 KiB, flag-byte: yes, "
        "values: {bootdelay: 1, where: 'root=<root>'}}}}\n"
        "system:\n  log-in: inittab\n  loader-access: yes\n"
        "  mounts:\n    root: {at: /, options: [ro, noatime]}\n"
        "    data: /data\n    tmp: {at: /data, kind: tmpfs, what: tmpfs}\n");
    struct outcome o = run_shell("'%s' --no-cache -w '%s' check", MOSAICUM_PROGRAM, w);
    CU_ASSERT_EQUAL(o.status, 1);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "its mount point is used twice"));
    outcome_free(&o);
    CU_ASSERT(
        runs(0,
             "cd '%s/boards' && sed -i '/tmpfs/d' curlew.yaml && sed -i 's/^      root:/      env: "
             "{at: 512 KiB, environment: main, owner: device}\\n      env-2: {at: 768 KiB, "
             "environment: main, owner: device}\\n&/' curlew.yaml",
             w));
    CU_ASSERT_TRUE_FATAL(build(w));
    CU_ASSERT_STRING_EQUAL(file_of(w, "etc/inittab"),
                           "::sysinit:/bin/mount -a\n"
                           "ttyAMA0::respawn:/sbin/getty -L ttyAMA0 9600 vt100\n");
    CU_ASSERT_PTR_NOT_NULL(strstr(file_of(w, "etc/fw_env.config"),
                                  "/dev/mmcblk0 0x80000 0x4000\n/dev/mmcblk0 0xc0000 0x4000\n"));
    /* the mount table, the environment and the partition table name the same partition */
    CU_ASSERT(
        runs(0,
             "cd '%s' && id=$(sfdisk -d out/curlew/card.img | sed -n 's/.*uuid=\\([0-9A-F-]*\\).*"
             "name=\"root\".*/\\1/p' | tr A-F a-f) && test ${#id} = 36 && debugfs -R 'cat "
             "etc/fstab' root.img 2>/dev/null | grep -q \"^PARTUUID=$id / ext4 ro,noatime 0 1$\" "
             "&& dd if=out/curlew/card.img bs=1K skip=512 count=16 status=none | grep -aq "
             "\"where=root=PARTUUID=$id\"",
             w));
    CU_ASSERT(runs(0, "sed -i 's/log-in: inittab/log-in: systemd/' '%s/boards/curlew.yaml'", w));
    CU_ASSERT_TRUE_FATAL(build(w));
    CU_ASSERT(
        runs(0,
             "cd '%s' && dd if=out/curlew/card.img of=root.img bs=1M skip=1 count=16 status=none; "
             "debugfs -R 'stat etc/systemd/system/getty.target.wants/serial-getty@ttyAMA0.service' "
             "root.img 2>/dev/null | grep -q symlink",
             w));
}

/* The console has moved: the root's own log-in at the old port goes, whatever form it has. */
static void the_log_in_follows_the_console(void) {
#define GONE "# the log-in follows the console: "
    static const struct {
        const char *inittab, *becomes;
    } rows[] = {
        {"::sysinit:/bin/mount "
         "-a\nttyS0::askfirst:/bin/sh\nttyGS0::respawn:/bin/sh\ntty1::respawn:/sbin/getty 38400 "
         "tty1\n",
         "::sysinit:/bin/mount -a\n" GONE "ttyS0::askfirst:/bin/sh\nttyGS0::respawn:/bin/sh\n"
         "tty1::respawn:/sbin/getty 38400 tty1\n"
         "ttyAMA0::respawn:/sbin/getty -L ttyAMA0 9600 vt100\n"},
        {"::respawn:/sbin/getty -L /dev/ttyS1 115200\n#ttyS0::respawn:/bin/sh\n::once:/bin/ttyS0",
         GONE "::respawn:/sbin/getty -L /dev/ttyS1 115200\n#ttyS0::respawn:/bin/sh\n"
              "::once:/bin/ttyS0\nttyAMA0::respawn:/sbin/getty -L ttyAMA0 9600 vt100\n"},
        /* one port has one log-in, also where the line is called otherwise */
        {"id:2:initdefault:\nT0:23:respawn:/sbin/getty -L ttyAMA0 9600 vt100\n"
         "S1:23:respawn:/sbin/getty -L ttyS1 9600\n1:23:respawn:/sbin/getty 38400 tty1\n",
         "id:2:initdefault:\n" GONE "T0:23:respawn:/sbin/getty -L ttyAMA0 9600 vt100\n" GONE
         "S1:23:respawn:/sbin/getty -L ttyS1 9600\n1:23:respawn:/sbin/getty 38400 tty1\n"
         "AMA0:2345:respawn:/sbin/getty -L ttyAMA0 9600 vt100\n"},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        char *w = workspace("moved", "system: {log-in: inittab}\n");
        write_text(path_in(w, "root/etc/inittab"), rows[i].inittab);
        CU_ASSERT_TRUE_FATAL(build(w));
        CU_ASSERT_STRING_EQUAL(file_of(w, "etc/inittab"), rows[i].becomes);
    }
    char *w = workspace("moved-unit", "system: {log-in: systemd}\n");
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && mkdir -p root/etc/systemd/system/getty.target.wants && cd "
             "root/etc/systemd/system/getty.target.wants && for p in ttyS0 ttyAMA0 tty1; do ln -s "
             "/lib/systemd/system/serial-getty@.service serial-getty@$p.service; done",
             w));
    CU_ASSERT_TRUE_FATAL(build(w));
    CU_ASSERT_TRUE(runs(
        0,
        "cd '%s' && '%s' -q take out/curlew/card.img root:etc/systemd/system -o u.tar && tar -tvf "
        "u.tar >l && [ $(grep -c '> /dev/null' l) = 1 ] && grep -q 'serial-getty@ttyS0.service -> "
        "/dev/null' l",
        w, MOSAICUM_PROGRAM));
}

/* Weak spots are warnings on the bench and errors in what ships. */
static void the_field_is_strict(void) {
    static const char *const fixtures[] = {"access.empty-password", "access.default-password",
                                           "piece.unpinned"};
    for (size_t i = 0; i < 3; i++) {
        char *w = test_folder("strict");
        copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/%s/fails", fixtures[i]), w);
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' check > /dev/null", MOSAICUM_PROGRAM, w));
        CU_ASSERT(
            runs(1, "'%s' --no-cache -q --strict -w '%s' check > /dev/null", MOSAICUM_PROGRAM, w));
        CU_ASSERT(
            runs(0,
                 "printf 'variants: {bench: {axis: u, purpose: bench}, field: {axis: u, purpose: "
                 "field}}\\n' >> '%s/boards/curlew.yaml'",
                 w));
        CU_ASSERT(runs(0, "'%s' --no-cache -q -w '%s' check curlew+bench > /dev/null",
                       MOSAICUM_PROGRAM, w));
        CU_ASSERT(runs(1,
                       "'%s' --no-cache -w '%s' check curlew+field | grep -q 'ERROR  %s' && exit 1",
                       MOSAICUM_PROGRAM, w, fixtures[i]));
    }
}

/* A secret that is found is marked, and shown nowhere. */
static void secrets_are_not_shown(void) {
    static const char *const options[] = {"", "--json", "-v --color always"};
    for (size_t i = 0; i < 3; i++) {
        struct outcome o =
            run_shell("'%s' --no-cache %s -w '%s/tests/rules/access.plain-secret/fails' check",
                      MOSAICUM_PROGRAM, options[i], MOSAICUM_SOURCE);
        CU_ASSERT_EQUAL(o.status, 1);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "wifi_psk"));
        CU_ASSERT_PTR_NULL(strstr(o.out, "low-water-1"));
        outcome_free(&o);
    }
}

SUITE(root_suite, {"users are merged into what is there", users_are_merged_into_what_is_there},
      {"the rest is written", the_rest_is_written},
      {"the log-in follows the console", the_log_in_follows_the_console},
      {"the field is strict", the_field_is_strict},
      {"secrets are not shown", secrets_are_not_shown});
