/* Real loaders and a real system tell of themselves: what is learnt is true, a definition of it
 * checks and builds, and one that is wrong is told. */
#define _GNU_SOURCE
#include "peers.h"

#include "boot/variables.h"
#include "loaders/u-boot/environment.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

/* ---- what comes of it ---- */

struct result {
    int status;
    size_t findings;  /* of board.learned */
    size_t others;    /* of any other rule */
    size_t of_loader; /* things that could not be proved and speak of the loader */
    char messages[4000], error[500];
};

static void take(struct result *r, json_t *d) {
    size_t i;
    const json_t *item;
    json_array_foreach(json_object_get(d, "findings"), i, item) {
        bool own = strcmp(json_string_value(json_object_get(item, "rule")), "board.learned") == 0;
        r->findings += own;
        r->others += !own;
        snprintf(r->messages + strlen(r->messages), sizeof r->messages - strlen(r->messages),
                 "%s\n", json_string_value(json_object_get(item, "message")));
    }
    json_array_foreach(json_object_get(d, "not-proved"), i, item) {
        const char *text = json_string_value(item);
        r->of_loader += text && strstr(text, "loader") != NULL;
        if (text && strstr(text, "loader"))
            snprintf(r->messages + strlen(r->messages), sizeof r->messages - strlen(r->messages),
                     "not proved: %s\n", text);
    }
    const char *error = json_string_value(json_object_get(d, "error"));
    snprintf(r->error, sizeof r->error, "%s", error ? error : "");
    json_decref(d);
}

static struct result learn(const char *w, const char *name, unsigned port, const char *more) {
    struct result r = {0};
    take(&r, run_json(&r.status, "-w '%s' learn %s tcp:127.0.0.1:%u --bench none %s", w, name, port,
                      more));
    return r;
}

static struct result check(const char *w, const char *name) {
    struct result r = {0};
    take(&r, run_json(&r.status, "-w '%s' check %s", w, name));
    return r;
}

/* One thing is made wrong in what was learnt: the board is asked again from what it answered. */
static bool tells(const char *w, const char *what, const char *edit) {
    struct result r = {0};
    if (!runs(0, "cd '%s' && rm -rf wrong && cp -r right wrong && cd wrong && %s", w, edit))
        return false;
    take(&r, run_json(&r.status, "-w '%s/wrong' learn told --stored '%s/right/learned/told.txt'", w,
                      w));
    bool good = r.status == 1 && r.findings == 1 && !r.others;
    if (!good)
        fprintf(stderr, "\n%s: %d, %zu findings, %zu others: %s%s\n", what, r.status, r.findings,
                r.others, r.messages, r.error);
    return good;
}

/* ---- loaders ---- */

/* Variables that the learnt file has otherwise than the loader's binary. */
static size_t wrong_variables(const char *w, const char *binary_path, size_t *count) {
    struct core core;
    struct mos_map compiled, told;
    size_t length, text_length, wrong = 0;
    core_start(&core);
    char *binary = read_whole(binary_path, &length);
    char *text = read_whole(path_in(w, "right/loader/told-variables.txt"), &text_length);
    CU_ASSERT_FATAL(binary && text);
    CU_ASSERT_TRUE_FATAL(
        mos_environment_find(core.ctx.arena, (const uint8_t *)binary, length, &compiled));
    told = mos_map_make(core.ctx.arena);
    mos_variables_read_text(&core.ctx,
                            mos_source_make(core.ctx.arena, "told", text, text_length, 0), &told);
    for (size_t i = 0; i < told.count; i++) {
        const struct mos_loader_variable *t = told.items[i].value;
        const struct mos_loader_variable *v = mos_map_get(&compiled, t->name);
        bool run_time = !v && (strcmp(t->name, "fdt_addr") == 0 || strcmp(t->name, "cpuid#") == 0);
        if (!run_time && (!v || strcmp(v->value, t->value) != 0)) {
            fprintf(stderr, "\n%s: %s=%.60s, compiled in: %.60s\n", binary_path, t->name, t->value,
                    v ? v->value : "(none)");
            wrong++;
        }
    }
    *count = told.count;
    core_end(&core);
    free(binary);
    free(text);
    return wrong;
}

static const struct {
    const char *what, *edit;
} wrong_loader[] = {
    {"another version", "sed -i 's/^  version: .*/  version: 2019.04/' boards/told.yaml"},
    {"another processor", "sed -i 's/^  cpu: [a-z0-9]*/  cpu: x86-64/' boards/told.yaml"},
    {"RAM elsewhere", "sed -i 's/main: {start: 0x[0-9a-f]*/main: {start: 0x10000000/' "
                      "boards/told.yaml"},
    {"more RAM", "sed -i 's/sizes: .[0-9]* [MG]iB/sizes: [3 GiB/' boards/told.yaml"},
    {"a command more", "sed -i 's/# CONFIG_CMD_NAND is not set/CONFIG_CMD_NAND=y/' "
                       "loader/told.config"},
    {"a command less", "sed -i 's/CONFIG_CMD_PART=y/# CONFIG_CMD_PART is not set/' "
                       "loader/told.config"},
    {"a file system less", "sed -i 's/CONFIG_FS_EXT4=y/# CONFIG_FS_EXT4 is not set/' "
                           "loader/told.config"},
    {"another limit", "sed -i 's/CONFIG_SYS_MAXARGS=.*/CONFIG_SYS_MAXARGS=99/' loader/told.config"},
    {"another environment", "sed -i 's/CONFIG_ENV_SIZE=.*/CONFIG_ENV_SIZE=0x3000/' "
                            "loader/told.config"},
    {"another variable", "sed -i 's/^bootcmd=.*/bootcmd=boot tides/' loader/told-variables.txt"},
    {"a variable more", "echo tides=high >> loader/told-variables.txt"},
    {"another start of a partition",
     "sed -i 's/number: 1, at: [0-9]* [KM]iB/number: 1, at: 3 MiB/' "
     "boards/told.yaml"},
    {"a larger medium", "sed -i 's/kind: disk, size: [0-9.]* [MG]iB/kind: disk, size: 900 GiB/; "
                        "s/kind: sd, size: [0-9.]* [MG]iB/kind: sd, size: 900 GiB/' "
                        "boards/told.yaml"},
    {"another table", "sed -i 's/{kind: gpt}/{kind: mbr}/' boards/told.yaml"},
};

static void ask_loader(const char *cpu, const char *image, const char *device, const char *binary) {
    enum { COUNT = sizeof wrong_loader / sizeof *wrong_loader };
    const char *w = keep(test_folder("learned"));
    unsigned port = peers_port();
    char serial[100];
    size_t variables = 0, told = 0;
    CU_ASSERT(runs(0, "mkdir -p '%s/right'", w));
    snprintf(serial, sizeof serial, "tcp:127.0.0.1:%u,server=on,wait=on", port);
    machine_speaks_at(serial);
    struct machine *m = machine_start(cpu, image, device);
    usleep(500000);
    struct result r = learn(path_in(w, "right"), "told", port, "");
    machine_stop(m);
    if (r.status)
        fprintf(stderr, "\n%s: %d %s\n%s\n", cpu, r.status, r.error, r.messages);
    CU_ASSERT_EQUAL_FATAL(r.status, 0);
    size_t wrong = wrong_variables(w, binary, &variables);
    CU_ASSERT(variables > 20 && wrong == 0);
    struct result c = check(path_in(w, "right"), "told");
    if (c.status || c.of_loader || c.findings || c.others)
        fprintf(stderr, "\n%s: check: %d %s\n%s\n", cpu, c.status, c.error, c.messages);
    CU_ASSERT(c.status == 0 && c.others == 0 && c.of_loader == 0);
    CU_ASSERT(runs(0, "cd '%s/right' && '%s' --no-cache -q build", w, MOSAICUM_PROGRAM));
    struct result same = {0};
    take(&same, run_json(&same.status,
                         "-w '%s/right' learn told --stored '%s/right/learned/told.txt'", w, w));
    if (same.status)
        fprintf(stderr, "\n%s: %s\n", cpu, same.messages);
    CU_ASSERT(same.status == 0 && same.findings == 0);
    for (size_t i = 0; i < COUNT; i++)
        told += tells(w, wrong_loader[i].what, wrong_loader[i].edit);
    CU_ASSERT_EQUAL(told, COUNT);
    char name[100];
    snprintf(name, sizeof name, "what the loader tells of itself, %s", cpu);
    proved(
        name,
        "%zu variables, %zu other than in its binary; check: nothing unknown about the loader%s; "
        "%zu of %d wrong facts told, each alone",
        variables, wrong, c.of_loader ? " BUT SOME" : "", told, (int)COUNT);
    remove_folder(w);
}

static void loaders_are_asked(void) {
    const char *w = keep(test_folder("asked"));
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(0, "'%s' --no-cache -q -w '%s' build curlew", MOSAICUM_PROGRAM, w));
    const char *image = keep(path_in(w, "out/curlew/card.img"));
    ask_loader("arm64", image, "virtio-blk-pci", "/usr/lib/u-boot/qemu_arm64/u-boot.bin");
    if (peers_all()) {
        ask_loader("arm", image, "nvme,serial=x", "/usr/lib/u-boot/qemu_arm/u-boot.bin");
        ask_loader("riscv64", image, "virtio-blk-device",
                   "/usr/lib/u-boot/qemu-riscv64_smode/u-boot.bin");
    }
    remove_folder(w);
    w = keep(test_folder("asked-card"));
    make_card_workspace(w);
    ask_loader(
        "card board", path_in(w, "out/curlew/card.img"), "",
        path_in(peers_cache(), "sunxi/usr/lib/u-boot/orangepi_plus/u-boot-sunxi-with-spl.bin"));
    remove_folder(w);
}

/* ---- a system ---- */

static const struct {
    const char *what, *edit;
} wrong_system[] = {
    {"another release", "sed -i 's/^  release: .*/  release: 6.9.0-tide/' boards/told.yaml"},
    {"another processor", "sed -i 's/cpu: arm64/cpu: riscv64/' boards/told.yaml"},
    {"another board", "sed -i 's/^  compatible: .*/  compatible: \"saltmarsh,curlew\"/' "
                      "boards/told.yaml"},
    {"more cores", "sed -i 's/^  cores: .*/  cores: 64/' boards/told.yaml"},
    {"another console", "sed -i 's/port: [A-Za-z0-9]*/port: ttyS3/' boards/told.yaml"},
    {"more RAM", "sed -i 's/sizes: .[0-9]* [MG]iB/sizes: [3 GiB/' boards/told.yaml"},
    {"another start of a partition",
     "sed -i 's/number: 2, at: [0-9]* [KM]iB/number: 2, at: 200 MiB/'"
     " boards/told.yaml"},
    {"a larger medium", "sed -i 's/kind: nvme, size: [0-9]* [MG]iB/kind: nvme, size: 900 GiB/' "
                        "boards/told.yaml"},
    {"a symbol",
     "sed -i 's/^CONFIG_NVME_CORE=.*/# CONFIG_NVME_CORE is not set/' kernel/told.config"},
    {"another value", "sed -i 's/^CONFIG_HZ=.*/CONFIG_HZ=17/' kernel/told.config"},
};

static void ask_system(bool systemd) {
    enum { COUNT = sizeof wrong_system / sizeof *wrong_system };
    const char *w = keep(test_folder("system"));
    unsigned port = peers_port();
    size_t told = 0;
    make_system(w, systemd);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && mkdir -p files/boot right && cp '%s'/kernel/boot/config-* files/boot/ && "
             "tar --numeric-owner --owner=0 --group=0 -czf pieces/rootfs.tar.gz -C files . && "
             "'%s' --no-cache -q build curlew",
             w, peers_cache(), MOSAICUM_PROGRAM));
    struct machine *m = start_system(w, port);
    struct result own = {0};
    take(&own, run_json(&own.status, "-w '%s' listen curlew tcp:127.0.0.1:%u --judge --first-start",
                        w, port));
    CU_ASSERT_EQUAL(own.status, 0); /* it is up now */
    own = learn(w, "curlew", port, path_in("", "--password-file '%s/password'", w) + 1);
    if (own.status)
        fprintf(stderr, "\nits own definition: %d %s\n%s\n", own.status, own.error, own.messages);
    struct result r = learn(path_in(w, "right"), "told", port,
                            path_in("", "--password-file '%s/password'", w) + 1);
    machine_stop(m);
    if (r.status)
        fprintf(stderr, "\n%d %s\n%s\n", r.status, r.error, r.messages);
    CU_ASSERT_EQUAL_FATAL(r.status, 0);
    bool config =
        runs(0, "cmp '%s/right/kernel/told.config' '%s'/kernel/boot/config-*", w, peers_cache());
    CU_ASSERT(config);
    struct result c = check(path_in(w, "right"), "told");
    if (c.status || c.others)
        fprintf(stderr, "\ncheck: %d %s\n%s\n", c.status, c.error, c.messages);
    CU_ASSERT(c.status == 0 && c.others == 0);
    bool builds = runs(0, "cd '%s/right' && '%s' --no-cache -q build && test -s out/told/*.img", w,
                       MOSAICUM_PROGRAM);
    CU_ASSERT(builds);
    for (size_t i = 0; i < COUNT; i++)
        told += tells(w, wrong_system[i].what, wrong_system[i].edit);
    CU_ASSERT_EQUAL(told, COUNT);
    proved(
        systemd ? "what a running Debian (systemd) tells of itself"
                : "what a running busybox system tells of itself",
        "its configuration %s; the draft checks%s and builds%s; %zu of %d wrong facts told, each "
        "alone; against the definition that it was built from: %zu differ",
        config ? "byte for byte" : "DAMAGED", c.status || c.others ? " NOT" : "",
        builds ? "" : " NOT", told, (int)COUNT, own.findings);
    remove_folder(w);
}

/* In the sample the Debian is enough: this one has fewer programs, and nothing else. */
static void a_busybox_is_asked(void) {
    if (peers_all())
        ask_system(false);
}

static void a_debian_is_asked(void) {
    ask_system(true);
}

SUITE(learned_suite, {"loaders are asked", loaders_are_asked},
      {"a busybox is asked", a_busybox_is_asked}, {"a Debian is asked", a_debian_is_asked});
