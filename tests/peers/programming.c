/* Boards programmed through real loaders: a virtual arm64 machine with a disk and a flash in its
 * address space, a board with a serial flash, and one that starts from its card by a real ROM.
 * Files reach them over a network of the test's own, or over their serial line. */
#include "peers.h"

#include "computer/spans.h"

#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#define OURS "10.9.0.1"
#define THEIRS "10.9.0.2/24"
enum { PORT = 15555 };

static const char virtual_arm64[] =
    "qemu-system-aarch64 -M virt -cpu cortex-a57 -m 512 -bios "
    "/usr/lib/u-boot/qemu_arm64/u-boot.bin -netdev tap,id=n,ifname=t0,script=no,downscript=no "
    "-device virtio-net-pci,netdev=n -serial tcp:127.0.0.1:15555,server,nowait";
static const char serial_flash[] =
    "qemu-system-arm -M sabrelite -smp 1 -m 1G -serial null -device "
    "loader,file=imx/loader.bin,addr=0x17800000,cpu-num=0,force-raw=on "
    "-netdev tap,id=n,ifname=t0,script=no,downscript=no -net nic,netdev=n "
    "-serial tcp:127.0.0.1:15555,server,nowait";
static const char card_board[] = "qemu-system-arm -M orangepi-pc -accel tcg,thread=single -netdev "
                                 "tap,id=n,ifname=t0,script=no,downscript=no -net nic,netdev=n "
                                 "-serial tcp:127.0.0.1:15555,server,nowait";

static const char virtual_board[] =
    "mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm64\n"
    "  ram: {main: {start: 0x40000000, sizes: [512 MiB]}}\n  media:\n"
    "    store: {kind: disk, size: {at-least: 64 MiB, at-most: 64 MiB}, loader: virtio 0}\n"
    "loader: {dialect: u-boot}\n"
    "pieces: {a: {file: a}, b: {file: b}}\nlayout:\n  store:\n    table: {kind: gpt}\n    "
    "regions:\n"
    "      a: {at: 1 MiB, size: 1 MiB, piece: a}\n"
    "      keep: {number: 2, size: 1 MiB, owner: factory}\n"
    "      data: {number: 1, size: rest, volume: {kind: ext4, label: data, fills: {b: {piece: b, "
    "to: "
    "b}}}}\n"
    "programming:\n  net:\n    steps:\n"
    "      power: {person: Give it power., prompt: yes, within: 60}\n"
    "      write: {write: store, by: network, names: [1af4 VirtIO Block Device]}\n"
    "  line:\n    steps:\n      power: {prompt: yes, within: 60}\n"
    "      write: {write: store, by: serial, names: [1af4 VirtIO Block Device], regions: [a]}\n";
static const char flash_board[] =
    "mosaicum: 1\nboard: dunlin\nhardware:\n  cpu: arm\n"
    "  media: {store: {kind: nor, size: 2 MiB, erase: 4 KiB, loader: sf 0}}\n"
    "loader: {dialect: u-boot}\npieces: {a: {file: a}, b: {file: b}}\nlayout:\n  store:\n"
    "    regions:\n      a: {at: 0 B, size: 64 KiB, piece: a}\n"
    "      b: {at: 1 MiB, size: 64 KiB, piece: b}\n"
    "programming:\n  net:\n    steps:\n      power: {prompt: yes, within: 60}\n"
    "      address: {type: [\"setenv ethaddr 02:00:00:00:00:01\"]}\n"
    "      write: {write: store, by: network, names: [sst25vf016b]}\n"
    "  line:\n    steps:\n      power: {prompt: yes, within: 60}\n"
    "      write: {write: store, by: serial, names: [sst25vf016b]}\n";
static const char address_board[] =
    "mosaicum: 1\nboard: avocet\nhardware:\n  cpu: arm64\n"
    "  media: {store: {kind: nor, size: 32 MiB, erase: 128 KiB, loader: nor 0x4000000}}\n"
    "loader: {dialect: u-boot}\npieces: {a: {file: a}}\nlayout:\n  store:\n"
    "    regions: {a: {at: 0 B, size: 512 KiB, piece: a}}\n"
    "programming:\n  net:\n    steps:\n      power: {prompt: yes, within: 60}\n"
    "      write: {write: store, by: network, names: [\"Manufacturer ID: 0x89, Device ID: "
    "0x0018\"]}\n";

/* ---- a board in a network of its own ---- */

static pid_t board_start(const char *machine, const char *disks) {
    char *line = keep(path_in(peers_cache(), "%s", ""));
    pid_t pid = fork();
    if (pid == 0) {
        char command[3000];
        setsid();
        snprintf(command, sizeof command,
                 "cd '%s' && exec ip netns exec %s %s -display none -monitor none -no-reboot %s "
                 ">/dev/null 2>&1",
                 line, space_name(), machine, disks);
        execl("/bin/sh", "sh", "-c", command, (char *)NULL);
        _exit(127);
    }
    CU_ASSERT_FATAL(pid > 0);
    for (int i = 0; i < 100; i++) { /* until its line is there */
        struct outcome o =
            run_shell("ip netns exec %s ss -ltn | grep -c ':%d '", space_name(), PORT);
        bool up = o.status == 0;
        outcome_free(&o);
        if (up)
            break;
        nanosleep(&(struct timespec){0, 100000000}, NULL);
    }
    return pid;
}

static void board_end(pid_t pid) {
    kill(-pid, SIGKILL);
    waitpid(pid, NULL, 0);
}

static void put_workspace(const char *w, const char *board, const char *name, size_t a, size_t b) {
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/%s.yaml", name), board);
    CU_ASSERT(runs(0, "head -c %zu /dev/urandom >'%s/a' && head -c %zu /dev/urandom >'%s/b'", a, w,
                   b, w));
    CU_ASSERT_FATAL(runs(0, "%s -w '%s' build -q", MOSAICUM_PROGRAM, w));
}

static const char *token_of(const char *w, const char *way) {
    struct outcome o = run_shell("%s -w '%s' write \"$(basename '%s'/boards/*.yaml .yaml)\" --way "
                                 "%s --serial x --address " OURS " --board-address " THEIRS
                                 " --only-show | sed -n 's/^token  *//p' | tr -d '\\n'",
                                 MOSAICUM_PROGRAM, w, w, way);
    char *token = keep(o.out);
    CU_ASSERT_EQUAL(strlen(token), 4);
    outcome_free(&o);
    return token;
}

/* Our program against it; what it printed is in *o. */
static int program(const char *w, const char *way, const char *before, struct outcome *o) {
    const char *token = token_of(w, way);
    *o = run_shell("%s ip netns exec %s %s -w '%s' write \"$(basename '%s'/boards/*.yaml .yaml)\" "
                   "--way %s --serial tcp:127.0.0.1:%d --address " OURS " --board-address " THEIRS
                   " --steps-done --yes %s",
                   before, space_name(), MOSAICUM_PROGRAM, w, w, way, PORT, token);
    return o->status;
}

static bool programmed(const char *w, const char *way, int status, const char *says) {
    struct outcome o;
    bool ok = program(w, way, "", &o) == status && strstr(o.out, says);
    if (!ok)
        fprintf(stderr, "\n%s: status %d\n%s%s\n", way, o.status, o.out, o.err);
    outcome_free(&o);
    return ok;
}

static bool is_whole(const char *w, const char *out, const char *image, const char *disk) {
    uint8_t *bytes = (uint8_t *)read_whole(disk, NULL);
    bool same = bytes && is_as_built(keep(path_in(w, "out/%s", out)), image, bytes);
    free(bytes);
    return same;
}

/* ---- a disk ---- */

static void a_disk_over_the_network(void) {
    static const char proof[] =
        "a disk through the real arm64 loader: TFTP, and a region by YMODEM";
    char *w = keep(test_folder("programmed")), *disk = keep(path_in(w, "disk"));
    char *image = keep(path_in(w, "out/curlew/store.img"));
    char disks[600];
    unsigned kills = peers_all() ? 16 : 2, gone_on = 0;
    if (!space_start(proof, OURS "/24"))
        return;
    put_workspace(w, virtual_board, "curlew", 700000, 6000000);
    CU_ASSERT(runs(0, "truncate -s 64M '%s'", disk));
    snprintf(disks, sizeof disks,
             "-drive file='%s',format=raw,if=none,id=d0 -device virtio-blk-pci,drive=d0", disk);
    pid_t board = board_start(virtual_arm64, disks);
    CU_ASSERT(programmed(w, "net", 0, "and read back"));
    CU_ASSERT(runs(0, "cmp '%s' '%s'", image, disk));
    CU_ASSERT(runs(0, "sfdisk --verify '%s' >/dev/null && %s compare '%s' '%s'", disk,
                   MOSAICUM_PROGRAM, image, disk));
    CU_ASSERT(programmed(w, "net", 0, "nothing differed"));
    /* one region alone, over its serial line */
    CU_ASSERT(
        runs(0, "printf changed | dd of='%s' bs=1 seek=1100000 conv=notrunc status=none", disk));
    CU_ASSERT(programmed(w, "line", 0, "written 64.0 KiB"));
    CU_ASSERT(runs(0, "cmp '%s' '%s'", image, disk));
    /* killed at any moment, and gone on; the board stays as it was left */
    for (unsigned k = 0; k < kills; k++) {
        char before[64];
        struct outcome o;
        CU_ASSERT(
            runs(0, "dd if=/dev/urandom of='%s' bs=1M count=40 conv=notrunc status=none", disk));
        snprintf(before, sizeof before, "timeout -s KILL %.1f", 1.5 + 10.0 * k / kills);
        program(w, "net", before, &o);
        outcome_free(&o);
        gone_on += programmed(w, "net", 0, "read back") && is_whole(w, "curlew", "store.img", disk);
    }
    board_end(board);
    /* two devices exchanged: the loader's number is another one's */
    CU_ASSERT(runs(0,
                   "cp '%s' '%s.was' && head -c 32M /dev/urandom >'%s.other' && cp '%s.other' "
                   "'%s.other-was'",
                   disk, disk, disk, disk, disk));
    snprintf(
        disks, sizeof disks,
        "-drive file='%s.other',format=raw,if=none,id=d0 -device virtio-blk-pci,drive=d0 -drive "
        "file='%s',format=raw,if=none,id=d1 -device virtio-blk-pci,drive=d1",
        disk, disk);
    board = board_start(virtual_arm64, disks);
    CU_ASSERT(programmed(w, "net", 4, "too small for the image"));
    CU_ASSERT(
        runs(0, "cmp '%s' '%s.was' && cmp '%s.other' '%s.other-was'", disk, disk, disk, disk));
    board_end(board);
    space_end();
    CU_ASSERT_EQUAL(gone_on, kills);
    proved(proof,
           "equal to the image; ended by SIGKILL and gone on: %u of %u; exchanged with another: "
           "stopped, both unchanged",
           gone_on, kills);
}

/* ---- flashes ---- */

static void a_serial_flash(void) {
    static const char proof[] = "a serial flash of 2 MiB through a real loader (sf update)";
    char *w = keep(test_folder("flash")), *flash = keep(path_in(w, "nor"));
    char disks[400];
    if (!exists(path_in(peers_cache(), "imx/complete"))) {
        proved(proof, "NOT DONE: its loader could not be fetched");
        return;
    }
    if (!space_start(proof, OURS "/24"))
        return;
    put_workspace(w, flash_board, "dunlin", 50000, 40000);
    CU_ASSERT(runs(0, "head -c 2M /dev/urandom >'%s'", flash));
    snprintf(disks, sizeof disks, "-drive if=mtd,format=raw,file='%s'", flash);
    pid_t board = board_start(serial_flash, disks);
    bool net = programmed(w, "net", 0, "and read back");
    CU_ASSERT(net);
    CU_ASSERT(runs(0, "cmp -n 50000 '%s/a' '%s' && cmp -n 40000 '%s/b' '%s' 0 1048576", w, flash, w,
                   flash));
    CU_ASSERT(programmed(w, "net", 0, "nothing differed"));
    CU_ASSERT(runs(0, "head -c 40000 /dev/urandom >'%s/b' && %s -w '%s' build -q", w,
                   MOSAICUM_PROGRAM, w));
    bool line = programmed(w, "line", 0, "and read back");
    CU_ASSERT(line);
    CU_ASSERT(runs(0, "cmp -n 50000 '%s/a' '%s' && cmp -n 40000 '%s/b' '%s' 0 1048576", w, flash, w,
                   flash));
    board_end(board);
    space_end();
    proved(proof, "network: %s; YMODEM: %s", net ? "equal" : "FAILED", line ? "equal" : "FAILED");
}

/* The emulated one refuses longer writes: the report is the board's own word. */
static void a_flash_that_fails(void) {
    static const char proof[] = "a flash whose longer writes time out (arm64's own)";
    char *w = keep(test_folder("parallel")), *flash = keep(path_in(w, "nor"));
    char disks[400];
    if (!space_start(proof, OURS "/24"))
        return;
    put_workspace(w, address_board, "avocet", 300000, 1);
    CU_ASSERT(runs(0, "truncate -s 64M '%s'", flash));
    snprintf(disks, sizeof disks, "-drive if=pflash,unit=1,format=raw,file='%s'", flash);
    pid_t board = board_start(virtual_arm64, disks);
    bool told = programmed(w, "net", 3,
                           "the board says \"Timeout writing to Flash\"; what is on it "
                           "is not known");
    CU_ASSERT(told);
    CU_ASSERT(runs(0, "! grep -q '\"proved\":true' '%s/written.jsonl'", w));
    board_end(board);
    space_end();
    proved(proof, "%s", told ? "told as the board says it, not proved" : "FAILED");
}

/* ---- a card that the board started from ---- */

static void the_card_it_started_from(void) {
    static const char proof[] = "the card that a board with a real ROM started from (mmc write)";
    char *w = keep(test_folder("running-card")), *card = keep(path_in(w, "card"));
    char disks[400];
    if (!space_start(proof, OURS "/24"))
        return;
    CU_ASSERT(runs(0,
                   "mkdir -p '%s/pieces' && cp '%s/sunxi/usr/lib/u-boot/orangepi_plus/"
                   "u-boot-sunxi-with-spl.bin' '%s/pieces/first.bin'",
                   w, peers_cache(), w));
    put_workspace(w,
                  CARD_BOARD "  b: {file: b}\nloader: {dialect: u-boot}\n"
                             "layout:\n  card:\n    regions:\n      first: {stage: first}\n"
                             "      b: {at: 4 MiB, size: 4 MiB, piece: b}\n"
                             "programming:\n  line:\n    steps:\n"
                             "      power: {prompt: yes, within: 60}\n"
                             "      write: {write: card, by: serial, names: [QEMU!]}\n"
                             "  net:\n    steps:\n      power: {prompt: yes, within: 60}\n"
                             "      write: {write: card, by: network, names: [QEMU!]}\n",
                  "curlew", 1, 100000);
    CU_ASSERT(runs(0,
                   "cp '%s/out/curlew/card.img' '%s' && truncate -s 128M '%s' && cp '%s' '%s.was'",
                   w, card, card, card, card));
    CU_ASSERT(runs(0, "head -c 100000 /dev/urandom >'%s/b' && %s -w '%s' build -q", w,
                   MOSAICUM_PROGRAM, w));
    snprintf(disks, sizeof disks, "-drive file='%s',if=sd,format=raw", card);
    pid_t board = board_start(card_board, disks);
    /* this emulator has no network for that loader: nothing is made invalid for a way that fails */
    CU_ASSERT(programmed(w, "net", 3, "nothing came through the network"));
    CU_ASSERT(runs(0, "cmp '%s' '%s.was'", card, card));
    bool ok = programmed(w, "line", 0, "and read back");
    board_end(board);
    CU_ASSERT(ok && is_whole(w, "curlew", "card.img", card));
    /* and it starts from it */
    board = board_start(card_board, disks);
    bool again = programmed(w, "line", 0, "nothing differed");
    CU_ASSERT(again);
    board_end(board);
    space_end();
    proved(proof, ok && again ? "equal to the image, and it starts from it" : "FAILED");
}

/* ---- USB ---- */

static const char usb_board[] =
    "mosaicum: 1\nboard: curlew\n"
    "hardware: {media: {card: {kind: emmc, size: {at-least: 64 MiB, at-most: 64 GiB}}}}\n"
    "rom: {order: [card], first-stage: {card: {at: 32 KiB}}}\n"
    "stages: {first: {piece: first, by: rom}}\n"
    "pieces: {first: {file: a, license: MIT}, b: {file: b, license: MIT}}\n"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      first: {stage: first}\n"
    "      root: {number: 1, size: rest, volume: {kind: ext4, label: root, fills: {b: {piece: b, "
    "to: "
    "b}}}}\n"
    "programming:\n"
    "  disk:\n    steps:\n"
    "      plug: {command: [sh, -c, \"echo dummy_udc.0 >/sys/kernel/config/usb_gadget/g1/UDC || "
    "true\"]}\n"
    "      write: {write: card, by: usb-disk, usb: {vendor: 0x1209, product: 0x0001}, within: "
    "20}\n";

static const char line_board[] =
    "mosaicum: 1\nboard: dunlin\nhardware:\n  cpu: arm64\n"
    "  media: {store: {kind: emmc, size: {at-least: 8 MiB, at-most: 8 MiB}, loader: mmc 0}}\n"
    "loader: {dialect: u-boot}\npieces: {a: {file: a}, b: {file: b}}\n"
    "layout:\n  store:\n    table: {kind: gpt}\n    regions:\n"
    "      a: {at: 128 KiB, piece: a}\n      b: {at: 1 MiB, piece: b}\n"
    "programming:\n  line:\n    steps:\n      power: {prompt: yes, within: 30}\n"
    "      write: {write: store, by: serial, names: [QEMU!]}\n";

/* What comes of each, as the guest says it. */
static const struct {
    const char *what;
    int status;
    const char *says;
} usb_rows[] = {
    {"disk", 0, "written to /dev/sda, and read back"},
    {"same", 0, ""},
    {"was-there", 3, "was there before the steps began"},
    {"another", 3, "no USB disk 1209:0001 came"},
    {"line", 0, "and read back"},
    {"line-same", 0, ""},
    {"pulled", 3, "line is gone"},
    {"listens", 0, "4 lines"},
};

static void usb_on_a_real_kernel(void) {
    enum { ROWS = sizeof usb_rows / sizeof *usb_rows };
    char *w = keep(test_folder("usb"));
    unsigned right = 0;
    if (!exists(path_in(peers_cache(), "x86/complete"))) {
        proved("USB for real", "NOT DONE: its kernel could not be fetched");
        return;
    }
    put_workspace(path_in(w, "ws"), usb_board, "curlew", 100000, 3000000);
    put_workspace(path_in(w, "ws"), line_board, "dunlin", 100000, 1000000);
    CU_ASSERT_FATAL(runs(0, "'%s/tests/peers/computer/prepare-usb' '%s' '%s' '%s' '%s'",
                         MOSAICUM_SOURCE, peers_cache(), MOSAICUM_PROGRAM, w, MOSAICUM_LINE));
    struct outcome o = guest_run(w, "");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "marker-end"));
    for (size_t i = 0; i < ROWS; i++) {
        char line[400];
        int status = guest_result(o.out, usb_rows[i].what, line, sizeof line);
        bool good = status == usb_rows[i].status && strstr(line, usb_rows[i].says);
        if (!good)
            fprintf(stderr, "\n%s: status %d,%s\n", usb_rows[i].what, status, line);
        CU_ASSERT(good);
        right += good;
    }
    if (right < ROWS)
        fprintf(stderr, "\n%s\n", o.out);
    outcome_free(&o);
    proved(
        "USB for real (gadgets of a guest's own): a board that becomes a disk, a serial adapter",
        "%u of %d as expected: written and equal; a disk that was there before, another one: left "
        "alone; an adapter pulled out in the middle: told; one that is listened to appears, passes "
        "text, vanishes and comes back, up to the log-in",
        right, (int)ROWS);
}

/* ---- Device Firmware Upgrade ---- */

static const char dfu_board[] =
    "mosaicum: 1\nboard: curlew\n"
    "hardware: {media: {store: {kind: emmc, size: 8 MiB}}}\n"
    "pieces: {loader: {file: a, license: MIT}, b: {file: b, license: MIT}}\n"
    "layout:\n  store:\n    table: {kind: gpt}\n    regions:\n"
    "      loader: {at: 128 KiB, piece: loader}\n"
    "      rest: {at: 2 MiB, piece: b}\n"
    "programming:\n"
    "  upgrade:\n    steps:\n"
    "      loader: {write: store, regions: [loader], by: dfu, usb: {vendor: 0x1209, product: "
    "0x0002}, place: main, within: 8}\n";

/* What comes of each, as the guest says it: status, what the device says, what it holds, and the
 * last words. */
static const struct {
    const char *fault, *device, *says;
    int status;
    bool same; /* all of it, or as far as it got */
} dfu_rows[] = {
    {"none", "done, 0 offences", "read back", 0, true},
    {"runtime", "done, 0 offences", "read back", 0, true},
    {"failed", "done, 0 offences", "read back", 0, true},
    {"quiet", "done, 0 offences", "not proved", 0, true},
    {"reset", "done, 0 offences", "not proved", 0, true},
    {"leaves", "done, 0 offences", "not proved", 0, true},
    {"stalls", "not done, 0 offences", "refuses that", 3, true},
    {"errs", "not done, 0 offences", "cannot write its storage", 3, true},
    {"goes", "not done, 0 offences", "it is gone", 3, true},
    {"flips", "done, 0 offences", "gives back something else", 1, true},
    {"garbled", "not done, 0 offences", "what no such device may", 3, true},
    {"absent", "", "no USB device", 3, false},
};

static void upgrades_on_a_real_kernel(void) {
    enum { ROWS = sizeof dfu_rows / sizeof *dfu_rows };
    char *w = keep(test_folder("dfu"));
    unsigned right = 0;
    if (!exists(path_in(peers_cache(), "x86/complete"))) {
        proved("Device Firmware Upgrade on a real kernel",
               "NOT DONE: its kernel could not be fetched");
        return;
    }
    put_workspace(path_in(w, "ws"), dfu_board, "curlew", 45000, 300000);
    CU_ASSERT_FATAL(runs(0, "'%s/tests/peers/computer/prepare-dfu' '%s' '%s' '%s' '%s'",
                         MOSAICUM_SOURCE, peers_cache(), MOSAICUM_PROGRAM, w, MOSAICUM_PLUG));
    struct outcome o = guest_run(w, "");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "marker-end"));
    for (size_t i = 0; i < ROWS; i++) {
        char line[400];
        int status = guest_result(o.out, dfu_rows[i].fault, line, sizeof line);
        bool good = status == dfu_rows[i].status && strstr(line, dfu_rows[i].device) &&
                    strstr(line, dfu_rows[i].says) &&
                    dfu_rows[i].same == (strstr(line, "| same") != NULL);
        if (!good)
            fprintf(stderr, "\n%s: status %d,%s\n", dfu_rows[i].fault, status, line);
        CU_ASSERT(good);
        right += good;
    }
    outcome_free(&o);
    proved(
        "Device Firmware Upgrade on a real kernel (a made-up device on vhci_hcd, libusb)",
        "%u of %d as expected: it has what was sent, asked as the standard says; stalls, errors, "
        "devices that vanish or give back something else are told",
        right, (int)ROWS);
    remove_folder(w);
}

SUITE(programming_suite, {"USB on a real kernel", usb_on_a_real_kernel},
      {"upgrades on a real kernel", upgrades_on_a_real_kernel},
      {"a disk over the network", a_disk_over_the_network}, {"a serial flash", a_serial_flash},
      {"a flash that fails", a_flash_that_fails},
      {"the card it started from", the_card_it_started_from});
