/* What the peers tests share. */
#ifndef MOS_TESTS_PEERS_H
#define MOS_TESTS_PEERS_H

#include "support.h"

const char *peers_cache(void); /* the folder that tests/peers/fetch filled */
bool peers_all(void);          /* full counts instead of the sample */
/* A row of the table of results. */
void proved(const char *what, const char *format, ...) __attribute__((format(printf, 2, 3)));
/* A full run can be interrupted: did these very programs prove it in an earlier one?  Then its row
 * is in the table. */
bool proved_before(const char *what);
/* A file to note in how far a full run has come; another one for other programs. */
const char *peers_progress(const char *kind);

/* A TCP port of this computer at which nobody listens: another one for each call. */
unsigned peers_port(void);

/* boots.c: a copy of the demo that boots a real kernel from NVMe. */
void make_real_workspace(const char *w);

/* deaths.c: the same with a busybox system that asks for a log-in at its serial line. */
void make_log_in_workspace(const char *w);

/* chain.c: a board whose loader has its variables, and with them all it does, in a flash; built. */
void make_flash_workspace(const char *w);
/* ramdisk.c: a board that boots a real kernel, whose root lies behind modules in a ramdisk. */
void make_module_workspace(const char *w);

/* modules.c: the board with a real ROM, whose card's driver is a module; built. */
void make_card_workspace(const char *w);

/* judges.c: two folders, entry by entry with extended attributes; how many were compared. */
size_t compare_folders(const char *a, const char *b);
/* From now on, parts of a second do not count. */
void compare_whole_seconds(bool on);

/* The board with a real ROM, up to its pieces; its first stage is pieces/first.bin. */
#define CARD_BOARD                                                                                 \
    "mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm\n"                                          \
    "  ram: {main: {start: 0x40000000, sizes: [512 MiB]}}\n"                                       \
    "  held: {loader: {top: 64 MiB}}\n  console: {port: ttyS0, baud: 115200}\n"                    \
    "  media: {card: {kind: sd, size: 128 MiB, loader: mmc 0, kernel: mmcblk0}}\n"                 \
    "rom: {order: [card], first-stage: {card: {at: 8 KiB, limit: 1000 KiB}}}\n"                    \
    "stages: {first: {piece: first, by: rom}}\n"                                                   \
    "pieces:\n  first: {file: pieces/first.bin, license: GPL-2.0-or-later}\n"

/* Starts the guest that a script of computer/ has prepared in a folder (vmlinuz, initrd), with
 * these devices besides; what it prints, until it powers off or half an hour has passed. */
struct outcome guest_run(const char *folder, const char *devices);
/* What a guest said of one of its jobs, as a line "result WHAT STATUS WORDS": the status, -1 where
 * it said nothing, and the words. */
int guest_result(const char *said, const char *what, char *words, size_t room);

/* ---- a network of the test's own ---- */
/* A network namespace with an interface t0 that machines may be attached to, and this address
 * ("10.9.0.1/24").  false: this computer lets us have none; the proof's row says so. */
bool space_start(const char *proof, const char *address);
const char *space_name(void);
void space_end(void);

/* ---- a virtual machine with a serial line ---- */
struct machine;
/* Starts a machine (arm64, arm or riscv64) with the real loader and an image as NVMe or virtio
 * disk, or the "card board": all of it comes from the image, read by its ROM. */
struct machine *machine_start(const char *cpu, const char *image, const char *device);
/* For the next machine: a tree in place of its own, and what its second flash holds; NULL: as
 * usual.
 */
void machine_with(const char *tree, const char *flash);
/* For the next machine: what it writes stays in the image. */
void machine_keeps(void);
/* For the next machine: a network whose server has the files of this folder. */
void machine_with_server(const char *folder);
/* For the next machine: it is attached to the network of the test's own, by this hardware address.
 */
void machine_in_space(const char *ethernet);
/* For the next machine: a network, and its SSH server at this port of ours. */
void machine_reached_at(unsigned port);
/* For the next machine: its serial line is there, as QEMU's -serial takes it, and nobody here hears
 * it. */
void machine_speaks_at(const char *serial);
/* Waits until the text has come; false after that many seconds (the log is printed). */
bool machine_expect(struct machine *m, const char *text, int seconds);
/* The text up to a mark, without carriage returns; malloc'ed; NULL after that many seconds. */
char *machine_until(struct machine *m, const char *mark, int seconds);
/* All of it up to the first of several marks, or to what came in that time; never NULL. */
char *machine_until_one(struct machine *m, const char *const *marks, int seconds);
int machine_line(const struct machine *m);         /* a socket: what it prints and is typed */
void machine_quiet(struct machine *m, bool quiet); /* says nothing when a text does not come */
void machine_type(struct machine *m, const char *text);
void machine_stop(struct machine *m);

/* systems.c.  A workspace at `w` with board curlew, built: the real arm64 kernel with a root of
 * busybox, or of Debian with systemd; root logs in by "low water".  Its serial line is then at
 * tcp:127.0.0.1:PORT. */
void make_system(const char *w, bool systemd);
struct machine *start_system(const char *w, unsigned port);

#endif
