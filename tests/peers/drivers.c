/* Who serves a node: our table for a tree against what a running kernel has bound, first with no
 * module but those of the root, which is not there, then with all that have a device in a
 * ramdisk. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

enum { MOST = 400 };

struct device {
    char node[160], driver[80];
};

struct machine_kind {
    const char *name, *cpu, *run;
    const char *kernel, *modules, *busybox; /* below the cache folder */
    const char *tree;                       /* a command that makes base.dtb; or a file there */
};

struct world {
    const struct machine_kind *k;
    char w[4200];
    struct device devices[MOST], rows[MOST]; /* the kernel's; ours: driver is the verdict */
    char modules[MOST][160];                 /* of our rows */
    size_t device_count, row_count, compared, bound, early, failed, wrong;
    char *loaded; /* /proc/modules */
};

/* ---- the kernel ---- */

static const char init[] =
    "#!/bin/busybox sh\n"
    "b=/bin/busybox\n"
    "$b mount -t proc proc /proc; $b mount -t sysfs sys /sys\n"
    "for m in $($b cat /order 2>/dev/null); do $b insmod $m; done; $b sleep 3\n"
    "echo == devices; for d in /sys/bus/*/devices/*; do\n"
    "  [ -d $d/of_node ] || continue; n=$($b readlink -f $d/of_node)\n"
    "  echo dev $d ${n#/sys/firmware/devicetree/base} $($b readlink $d/driver); done\n"
    "echo == loaded; $b cat /proc/modules; echo == end; $b poweroff -f\n";

static void pack_ramdisk(struct world *x) {
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s/r' && chmod 755 init && find . | cpio -o -H newc --quiet | "
                              "gzip > ../pieces/rd",
                              x->w));
}

static void start_kernel(struct world *x) {
    struct outcome o = run_shell(
        "cd '%s' && timeout 400 %s -display none -monitor none -no-reboot -serial stdio -kernel "
        "pieces/kernel -initrd pieces/rd -append 'console=ttyS0,115200 console=ttyAMA0 maxcpus=1 "
        "quiet' 2>/dev/null | tr -d '\\r'",
        x->w, x->k->run);
    CU_ASSERT_PTR_NOT_NULL_FATAL(strstr(o.out, "== end"));
    x->device_count = 0;
    free(x->loaded);
    x->loaded = strdup(strstr(o.out, "== loaded"));
    for (char *line = strtok(o.out, "\n"); line; line = strtok(NULL, "\n")) {
        struct device *d = &x->devices[x->device_count];
        char bus[40], to[200] = "";
        if (sscanf(line, "dev /sys/bus/%39[^/]/devices/%*s %159s %199s", bus, d->node, to) < 2)
            continue;
        /* these make devices of a node once more, and never bind */
        static const char *const doubles[] = {"cpu", "gpio", "nvmem", "clocksource", "mipi-dsi"};
        bool again = false;
        for (size_t i = 0; i < sizeof doubles / sizeof *doubles; i++)
            again |= strcmp(bus, doubles[i]) == 0;
        const char *slash = strrchr(to, '/');
        snprintf(d->driver, sizeof d->driver, "%s", slash ? slash + 1 : "");
        CU_ASSERT_FATAL(x->device_count + 1 < MOST);
        x->device_count += !again;
    }
    outcome_free(&o);
}

/* ---- ours ---- */

/* Plain buses bind or not, and nothing hangs on it. */
static void read_rows(struct world *x) {
    struct outcome o =
        run_shell("cd '%s' && '%s' show drivers --json | python3 -c 'import json,sys\n"
                  "for r in json.load(sys.stdin)[\"report\"][0][\"rows\"]: r[\"compatible\"] == "
                  "\"simple-bus\" or print(r[\"node\"], "
                  "(r[\"driver\"] or \"-\"), r[\"served\"], sep=\"\\t\")'",
                  x->w, MOSAICUM_PROGRAM);
    x->row_count = 0;
    for (char *line = strtok(o.out, "\n"); line; line = strtok(NULL, "\n")) {
        struct device *d = &x->rows[x->row_count];
        CU_ASSERT_FATAL(x->row_count < MOST);
        x->row_count += sscanf(line, "%159[^\t]\t%159[^\t]\t%79[^\n]", d->node,
                               x->modules[x->row_count], d->driver) == 3;
    }
    outcome_free(&o);
    CU_ASSERT_TRUE_FATAL(x->row_count > 5);
}

static void make_board(struct world *x) {
    char text[3000];
    snprintf(text, sizeof text,
             "mosaicum: 1\nboard: curlew\nhardware: {cpu: %s, media: {card: {kind: sd, size: 4 "
             "GiB}}}\nkernel: {image: kernel}\npieces:\n"
             "  kernel: {file: pieces/kernel, license: MIT}\n  rd: {file: pieces/rd, license: "
             "MIT}\n  root: {file: pieces/root.tar, license: MIT}\n"
             "  vendor: {file: base.dtb, license: MIT}\ntree: {blobs: {main: {piece: vendor}}}\n"
             "boot: {entries: {main: {kernel: kernel, tree: main, ramdisk: rd, arguments: {root: "
             "<root>}}}}\nlayout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: 3 "
             "GiB, volume: {kind: ext4, fills: {all: {archive: root}}}}}}}\n",
             x->k->cpu);
    write_text(path_in(x->w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(x->w, "boards/curlew.yaml"), text);
    write_text(path_in(x->w, "r/init"), init);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir -p pieces r/bin r/proc r/sys r/dev && cp '%s'/%s pieces/kernel && tar -C "
        "'%s/%s' -cf pieces/root.tar lib/modules && cp '%s'/%s r/bin/ && %s",
        x->w, peers_cache(), x->k->kernel, peers_cache(), x->k->modules, peers_cache(),
        x->k->busybox, x->k->tree));
    pack_ramdisk(x);
}

/* All modules that our table names, with what they need, in their order. */
static void add_modules(struct world *x) {
    FILE *f = fopen(path_in(x->w, "names"), "w");
    CU_ASSERT_PTR_NOT_NULL_FATAL(f);
    for (size_t i = 0; i < x->row_count; i++)
        if (strcmp(x->rows[i].driver, "module, root") == 0)
            fprintf(f, "%s\n", x->modules[i]);
    fclose(f);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && mkdir m && tar -C m -xf pieces/root.tar && v=$(ls m/lib/modules) && depmod -b "
        "m "
        "$v && for n in $(sort -u names); do modprobe -d m -S $v --show-depends $(basename $n "
        ".ko); done | sed -n 's,^insmod .*/lib/modules/\\([^ ]*\\).*,/lib/modules/\\1,p' | awk "
        "'!x[$0]++' > r/order && for p in $(cat r/order); do mkdir -p r/$(dirname $p) && cp m$p "
        "r$p || exit 1; done && rm -r m && test -s r/order",
        x->w));
    pack_ramdisk(x);
}

/* ---- both ---- */

static bool is_loaded(const struct world *x, const char *module) {
    char name[100];
    const char *slash = strrchr(module, '/');
    snprintf(name, sizeof name, "\n%s", slash ? slash + 1 : module);
    char *dot = strstr(name, ".ko");
    if (dot)
        strcpy(dot, " ");
    for (char *p = name; *p; p++)
        *p = *p == '-' ? '_' : *p;
    return strstr(x->loaded, name) != NULL;
}

/* A driver may be there before there are devices (timers), and one may find that what it expects is
 * not emulated: neither binds. */
static void compare(struct world *x) {
    for (size_t i = 0; i < x->row_count; i++) {
        const struct device *ours = &x->rows[i];
        const char *driver = NULL;
        for (size_t k = 0; k < x->device_count; k++)
            if (strcmp(x->devices[k].node, ours->node) == 0 && (!driver || !*driver))
                driver = x->devices[k].driver;
        bool inside = strcmp(ours->driver, "built in") == 0,
             ramdisk = strcmp(ours->driver, "module, ramdisk") == 0;
        if (!driver)
            continue; /* no device: clocks, interrupt controllers, what its parent looks after */
        x->compared++;
        x->bound += *driver != 0;
        if ((*driver != 0) == (inside || ramdisk))
            continue;
        if (!*driver && inside && strstr(ours->node, "/timer")) {
            x->early++;
        } else if (!*driver && ramdisk && is_loaded(x, x->modules[i])) {
            x->failed++;
        } else {
            x->wrong++;
            fprintf(stderr, "%s: %s is %s, %s\n", x->k->name, ours->node,
                    *driver ? driver : "not bound", ours->driver);
        }
    }
}

static void one_machine(const struct machine_kind *k, struct world *all) {
    struct world *x = calloc(1, sizeof *x);
    x->k = k;
    snprintf(x->w, sizeof x->w, "%s", test_folder(k->name));
    make_board(x);
    for (int round = 0; round < (peers_all() ? 2 : 1); round++) {
        read_rows(x);
        if (round) {
            add_modules(x);
            read_rows(x);
        }
        start_kernel(x);
        compare(x);
    }
    CU_ASSERT_TRUE(x->compared > 10);
    CU_ASSERT_TRUE(x->bound > 10);
    all->compared += x->compared;
    all->bound += x->bound;
    all->early += x->early;
    all->failed += x->failed;
    all->wrong += x->wrong;
    free(x->loaded);
    free(x);
}

static void a_kernel_binds_what_is_served(void) {
    static const struct machine_kind kinds[] = {
        {"card", "arm",
         "qemu-system-arm -M orangepi-pc -accel tcg,thread=single -nic none -dtb base.dtb",
         "arm/boot/vmlinuz-*", "arm", "arm/bin/busybox",
         "cp \"$MOSAICUM_PEERS_CACHE\"/arm/usr/lib/linux-image-*/sun8i-h3-orangepi-pc.dtb "
         "base.dtb"},
        {"virt", "arm64", "qemu-system-aarch64 -M virt -cpu cortex-a57 -m 1024 -nic none",
         "full/boot/vmlinuz-*", "full", "busybox/bin/busybox",
         "qemu-system-aarch64 -M virt,dumpdtb=base.dtb -cpu cortex-a57 -m 1024 -nic none -display "
         "none -monitor none 2>/dev/null"}};
    struct world *all = calloc(1, sizeof *all);
    for (size_t i = 0; i < (peers_all() ? 2 : 1); i++)
        one_machine(&kinds[i], all);
    CU_ASSERT_EQUAL(all->wrong, 0);
    proved("who serves a node, as a kernel binds it",
           "%zu devices, %zu bound: %zu differ; %zu timers serve without binding, %zu loaded "
           "drivers found nothing",
           all->compared, all->bound, all->wrong, all->early, all->failed);
    free(all);
}

SUITE(drivers_suite, {"a kernel binds what is served", a_kernel_binds_what_is_served});
