/* The host of this computer: POSIX.1-2008 with Linux where it is better. */
#ifndef MOS_PLATFORM_PLATFORM_H
#define MOS_PLATFORM_PLATFORM_H

#include "mosaicum/platform.h"

#include <stdio.h>

void mos_platform_workers(struct mos_host *host);       /* workers.c fills its functions in */
void mos_platform_programs(struct mos_host *host);      /* programs.c */
void mos_platform_folders(struct mos_host *host);       /* folders.c */
extern const struct mos_computer mos_platform_computer; /* computer.c */
extern const struct mos_wires mos_platform_wires;       /* wires.c */

/* files.c: what the system says of a file, as a host tells it. */
struct stat;
void files_info(const struct stat *st, struct mos_file_info *out);

/* lines.c: the functions of struct mos_wires for terminal devices. */
int mos_line_open(const char *path, unsigned speed, int *wire);
int mos_line_set(const struct mos_wires *w, int wire, const struct mos_line_settings *s);
int mos_line_break(const struct mos_wires *w, int wire);
/* ports.c: … and about them. */
int mos_line_list(const struct mos_wires *w,
                  bool (*each)(void *self, const struct mos_serial_port *port), void *self);
int mos_line_group(const struct mos_wires *w, const char *port, char group[64], char user[64]);
int mos_line_users(const struct mos_wires *w, const char *port,
                   bool (*each)(void *self, const char *program, unsigned process), void *self);
/* keyboard.c: … and for the keyboard; whether the wire was it. */
int mos_keys_open(const struct mos_wires *w, int *wire);
bool mos_keys_close(int wire);

/* network.c: … for datagrams, and about this computer's network. */
int mos_network_open(const struct mos_wires *w, const char *interface, const struct mos_peer *own,
                     int *wire);
int mos_network_overhear(const struct mos_wires *w, unsigned interface, const uint16_t *ports,
                         size_t count, int *wire);
int mos_network_list(const struct mos_wires *w,
                     bool (*each)(void *self, const struct mos_own_address *address), void *self);
int mos_network_neighbour(const struct mos_wires *w, uint32_t address, uint8_t ethernet[6]);
/* A socket of that type at an address and of an interface (NULL: any); an errno value. */
int mos_network_bind(int type, const char *interface, const struct mos_peer *own, int *socket);
/* http.c: … for HTTP; whether the wire was it. */
int mos_http_open(const struct mos_wires *w, const char *interface, const struct mos_peer *own,
                  const struct mos_http *host, int *wire);
int mos_http_step(const struct mos_wires *w, int wire, int64_t *within);
bool mos_http_close(int wire);

/* usb.c: the functions of struct mos_wires for USB; its wires have numbers of their own. */
enum { MOS_USB_WIRES = 1 << 20 };
int mos_usb_list(const struct mos_wires *w,
                 bool (*each)(void *self, const struct mos_usb_device *device), void *self);
int mos_usb_open(const struct mos_wires *w, const char *port, int *wire);
void mos_usb_close(int wire);
int mos_usb_claim(const struct mos_wires *w, int wire, unsigned interface, unsigned alternate);
int mos_usb_control(const struct mos_wires *w, int wire, const struct mos_usb_request *request,
                    void *data, size_t length, size_t *got, unsigned ms);
int mos_usb_reset(const struct mos_wires *w, int wire);

/* streams.c: a stream whose bytes go to a function; NULL: no memory.  write returns how many bytes
 * it took; fewer than `length` is an error of the stream. */
FILE *mos_platform_stream(size_t (*write)(void *self, const char *bytes, size_t length),
                          void *self);
/* Who sits at the terminal, wherever standard input comes from; NULL: nobody.  Close it. */
FILE *mos_platform_answers(void);
/* Bytes that nobody can foresee; false: there are none. */
bool mos_platform_random(void *to, size_t length);

/* service.c: a device from the system's storage service; ENOSYS: there is none, EACCES: it says no.
 */
int mos_service_open(const char *path, bool to_write, int *device);

#endif
