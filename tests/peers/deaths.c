/* What can happen to a real kernel behind the hand-over, listened to. */
#define _GNU_SOURCE
#include "damage.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { SAMPLE = 6 };

/* ---- the board ---- */

static const char landmarks[] =
    "\\nlandmarks:\\n  loader: {within: 20}\\n  script-1: {within: 20}\\n"
    "  hand-over: {within: 20}\\n  kernel: {within: 20}\\n  root: {within: 12}\\n"
    "  first-program: {within: 10}\\n  log-in: {within: 12}\\n";

static const char inittab[] =
    "::sysinit:/etc/rcS\nttyAMA0::respawn:/sbin/getty -L ttyAMA0 115200 vt100\n";
static const char rc_text[] =
    "#!/bin/sh\nexport PATH=/bin:/sbin\nmount -t proc proc /proc\nmount -t devtmpfs dev /dev\n"
    "hostname curlew\necho gauge starts\n";

/* That of make_real_workspace, with a busybox system that asks for a log-in. */
void make_log_in_workspace(const char *w) {
    make_real_workspace(w);
    write_text(path_in(w, "files/etc/inittab"), inittab);
    write_text(path_in(w, "files/etc/rcS"), rc_text);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && chmod 755 files/etc/rcS && rm files/sbin/init && for n in init getty; do "
             "ln -s ../bin/busybox files/sbin/$n; done && for n in mount hostname sleep insmod "
             "reboot poweroff mkdir; do ln -s busybox files/bin/$n; done && rm -f files/etc/large "
             "&& mkdir -p files/data && tar --numeric-owner --owner=0 --group=0 -czf "
             "pieces/rootfs.tar.gz -C files . && sed -i -e 's/, quiet[]]/]/' -e '/^      env: /d; "
             "/^  environments:/d; /^    main: {base: defaults/d' boards/curlew.yaml && printf "
             "'%s' >> boards/curlew.yaml && '%s' --no-cache -q build curlew",
             w, landmarks, MOSAICUM_PROGRAM));
}

/* ---- what happens ---- */

struct death {
    const char *name;
    const char *from, *to; /* in the script; NULL: nothing */
    bool waits;            /* … and rootwait stays */
    const char *shell;     /* done in the folder with card.img: $M is the program; NULL: nothing */
    const char *stages;    /* that are right, with blanks between */
    const char *symptoms;  /* the same; "": it is up */
};
#define AMEND(what) "$M -q amend card.img " what " -o new.img && mv new.img card.img"
#define INIT(text)                                                                                 \
    "printf '" text "' > init && chmod 755 init && " AMEND("'root:~sbin/init' "                    \
                                                           "root:sbin/init=init")
#define RC(text)                                                                                   \
    "printf '#!/bin/sh\\nexport PATH=/bin:/sbin\\nmount -t proc proc /proc\\nmount -t devtmpfs "   \
    "dev /dev\\n" text "\\nsleep 1000\\n' > rcS && chmod 755 rcS && " AMEND("root:etc/rcS=rcS")
#define INITTAB(text)                                                                              \
    "printf '::sysinit:/etc/rcS\\n" text "' > inittab && " AMEND("root:etc/inittab=inittab")
#define WIPE(from, count)                                                                          \
    "s=$(sfdisk -d card.img | sed -n 's/.*img2 : start= *\\([0-9]*\\),.*/\\1/p') && dd "           \
    "if=/dev/zero of=card.img seek=$((s + " from ")) count=" count " conv=notrunc status=none"
static const struct death deaths[] = {
    {"as it was built", NULL, NULL, true, NULL, "system", ""},
    {"another partition", "root=PARTUUID=", "root=PARTUUID=0", true, NULL, "kernel", "root-waits"},
    {"… and no waiting", "root=PARTUUID=", "root=PARTUUID=0", false, NULL, "kernel",
     "root-missing"},
    {"a label", "root=PARTUUID=", "root=LABEL=root old=", false, NULL, "kernel", "root-missing"},
    {"no such partition", "root=PARTUUID=", "root=/dev/nvme0n1p7 old=", false, NULL, "kernel",
     "root-missing"},
    {"the boot partition", "root=PARTUUID=", "root=/dev/nvme0n1p1 old=", false, NULL, "kernel",
     "root-file-system root-unmountable"},
    {"another file system", "rootwait ro", "rootwait ro rootfstype=xfs", false, NULL, "kernel",
     "root-file-system"},
    {"no such option", "rootwait ro", "rootwait ro rootflags=tide", false, NULL, "kernel",
     "root-file-system root-unmountable"},
    {"no first program", "rootwait ro", "rootwait ro init=/sbin/none", true, NULL, "root program",
     "no-first-program"},
    {"a text is first", "rootwait ro", "rootwait ro init=/etc/inittab", true, NULL, "program",
     "first-program-not-allowed no-first-program"},
    {"a folder is first", "rootwait ro", "rootwait ro init=/etc", true, NULL, "program",
     "first-program-not-allowed no-first-program"},
    {"no console", "console=ttyAMA0,115200", "console=ttyS9 init=/bin/none", true, NULL,
     "hand-over", "silent-after-hand-over"},
    {"hardly any RAM", "rootwait ro", "rootwait ro mem=20M", true, NULL, "hand-over kernel",
     "too-little-ram panic silent-after-hand-over silent-kernel kernel-fault"},
    {"no driver of the disk", "rootwait ro", "rootwait ro initcall_blacklist=nvme_init", false,
     NULL, "kernel", "root-no-disk"},
    {"… and it waits", "rootwait ro", "rootwait ro initcall_blacklist=nvme_init", true, NULL,
     "kernel", "root-waits"},
    {"no bus", "rootwait ro", "rootwait ro initcall_blacklist=gen_pci_driver_init", false, NULL,
     "kernel", "root-no-disk"},
    {"it starts again", "root=PARTUUID=", "panic=1 root=PARTUUID=0", false, NULL, "kernel",
     "root-missing"},
    {"init is gone", NULL, NULL, true, AMEND("'root:~sbin/init'"), "program system", "bare-shell"},
    {"init and shell are gone", NULL, NULL, true, AMEND("'root:~sbin/init' 'root:~bin/sh'"),
     "root program", "no-first-program"},
    {"init of another processor", NULL, NULL, true,
     "cp /bin/true init && " AMEND("'root:~sbin/init' root:sbin/init=init"), "program system",
     "first-program-of-another-processor"},
    {"init without its shell", NULL, NULL, true, INIT("#!/bin/none\\n"), "program system",
     "bare-shell"}, /* the kernel says nothing of it */
    {"init without its mode", NULL, NULL, true,
     "cp $C/busybox/bin/busybox init && chmod 644 init && " AMEND(
         "'root:~sbin/init' root:sbin/init=init"),
     "program system", "first-program-not-allowed"},
    {"init ends", NULL, NULL, true, INIT("#!/bin/sh\\nexit 3\\n"), "program", "first-program-died"},
    {"init says nothing", NULL, NULL, true,
     INIT("#!/bin/sh\\nwhile true; do /bin/sleep 100; done\\n"), "program", "silent-first-program"},
    {"init only speaks", NULL, NULL, true,
     INIT("#!/bin/sh\\necho gauge\\nwhile true; do /bin/sleep 100; done\\n"), "system",
     "no-log-in"},
    {"no library loader", NULL, NULL, true,
     "echo 'void _start(void){for(;;);}' > i.c && aarch64-linux-gnu-gcc -nostdlib -pie "
     "-Wl,-dynamic-linker,/lib/ld-linux-aarch64.so.1 -o init i.c && " AMEND(
         "'root:~sbin/init' root:sbin/init=init"),
     "program system", "bare-shell"},
    {"the system is gone", NULL, NULL, true, AMEND("'root:~bin/busybox'"), "root program",
     "no-first-program"},
    {"nobody asks for a log-in", NULL, NULL, true, INITTAB(""), "system", "no-log-in"},
    {"a log-in elsewhere", NULL, NULL, true,
     INITTAB("ttyS9::respawn:/sbin/getty -L ttyS9 115200 vt100\\n"), "system",
     "log-in-dies no-log-in"},
    {"it writes on a read-only root", NULL, NULL, true, RC("mkdir /data/x"), "system", "read-only"},
    {"a mount fails", NULL, NULL, true, RC("mount /dev/nvme0n1p9 /data"), "system", "mount-failed"},
    {"a program hangs", NULL, NULL, true, RC("echo waits for the sea"), "system", "no-log-in"},
    {"it crashes", NULL, NULL, true, RC("echo c > /proc/sysrq-trigger"), "program system",
     "kernel-fault panic"},
    {"it is started again", NULL, NULL, true, RC("reboot -f"), "program system", "restarts"},
    {"it is switched off", NULL, NULL, true, RC("poweroff -f"), "program system", "powers-off"},
    {"no room is left", NULL, NULL, true,
     RC("mount -t tmpfs -o size=64k none /data\\nwhile echo tide-tide-tide-tide; do :; done > "
        "/data/log"),
     "system", "file-system-full"},
    {"the root's first block is gone", NULL, NULL, true, WIPE("1", "4"), "kernel",
     "root-file-system root-damaged root-unmountable root-waits root-missing"},
    {"the root's groups are gone", NULL, NULL, true, WIPE("8", "8"), "kernel root",
     "root-damaged root-unmountable"},
    {"the root is empty", NULL, NULL, true, WIPE("64", "400000"), "kernel root program",
     "root-damaged no-first-program root-unmountable bare-shell first-program-lacks-a-file"},
    {"a module of another kernel", NULL, NULL, true,
     "cp $C/kernel/lib/modules/*/kernel/fs/fat/fat.ko m.ko && sed -i "
     "'s/vermagic=6[.]1[.]0/vermagic=6.1.9/' m.ko && " AMEND("root:m.ko=m.ko") " && " RC(
         "insmod /m.ko"),
     "system", "module-refused module-of-another-kernel"},
    {"the kernel is cut off", NULL, NULL, true,
     "$M -q take card.img boot:kernel -o k && head -c 9000000 k > k2 && " AMEND("boot:kernel=k2"),
     "hand-over kernel", "silent-after-hand-over kernel-fault loader-dies panic silent-kernel"},
};
enum { DEATHS = sizeof deaths / sizeof *deaths };

static void kill_it(struct damage *d, const struct death *x) {
    if (x->from)
        damage_script(d, x->from, x->to, x->waits);
    if (!x->shell)
        return;
    write_text(path_in(d->folder, "kill"), x->shell);
    CU_ASSERT_TRUE(
        runs(0, "cd '%s' && M='%s' C='%s' sh -e kill", d->folder, MOSAICUM_PROGRAM, peers_cache()));
}

static char *listen_to(const struct damage *d, const char *w, struct heard *out) {
    unsigned port = peers_port();
    char serial[100];
    const char *log = keep(path_in(d->folder, "boot.log"));
    snprintf(serial, sizeof serial, "tcp:127.0.0.1:%u,server=on,wait=on", port);
    machine_speaks_at(serial);
    struct machine *m = machine_start("arm64", d->image, "nvme,serial=x");
    listen_hear(w, "curlew", port, log, out);
    machine_stop(m);
    char *text = read_whole(log, NULL);
    unlink(log);
    return text;
}

static void real_deaths_are_named(void) {
    size_t right = 0, count = 0, well = 0;
    const char *w = keep(test_folder("log-in"));
    struct damage d = {.folder = keep(test_folder("deaths"))};
    d.image = keep(path_in(d.folder, "card.img"));
    make_log_in_workspace(w);
    for (size_t i = 0; i < DEATHS; i += peers_all() || !i ? 1 : DEATHS / SAMPLE) {
        const struct death *x = &deaths[i];
        struct heard h;
        CU_ASSERT_TRUE_FATAL(
            runs(0, "cp --sparse=always '%s/out/curlew/card.img' '%s'", w, d.image));
        kill_it(&d, x);
        char *log = listen_to(&d, w, &h);
        bool dead = *x->symptoms != 0;
        const char *blank = strrchr(h.stage, ' '), *stage = blank ? blank + 1 : h.stage;
        bool ok = strcmp(h.end, dead ? "stopped" : "up") == 0 && listen_among(x->stages, stage) &&
                  (dead ? listen_among(x->symptoms, h.symptom) : !*h.symptom);
        right += ok;
        well += dead && strcmp(h.end, "up") == 0;
        count++;
        CU_ASSERT_TRUE(ok);
        if (!ok || peers_all())
            printf("%s %2zu %-32s %-8s %-14s %s\n", ok ? " " : "!", i, x->name, h.end, h.stage,
                   h.symptom);
        if (!ok && log)
            printf("%s\n", strlen(log) > 1500 ? log + strlen(log) - 1500 : log);
        fflush(stdout);
        free(log);
    }
    CU_ASSERT_EQUAL(well, 0);
    proved("deaths behind the hand-over, of a real kernel",
           "%zu of %zu: right stage and symptom; none called well", right, count);
}

SUITE(deaths_suite, {"real deaths are named", real_deaths_are_named});
