/* The archive library, loaded when an archive is opened for the first time: what it depends on
 * would take half of the time that every other command needs to start.  Included instead of
 * <archive.h>; its functions keep their names. */
#ifndef MOS_CONTENT_LIBRARY_H
#define MOS_CONTENT_LIBRARY_H

#include <archive.h>
#include <archive_entry.h>

#define MOS_ARCHIVE_FUNCTIONS(X)                                                                   \
    X(archive_entry_acl_add_entry)                                                                 \
    X(archive_entry_acl_next)                                                                      \
    X(archive_entry_acl_reset)                                                                     \
    X(archive_entry_acl_types)                                                                     \
    X(archive_entry_filetype)                                                                      \
    X(archive_entry_free)                                                                          \
    X(archive_entry_gid)                                                                           \
    X(archive_entry_hardlink)                                                                      \
    X(archive_entry_mtime)                                                                         \
    X(archive_entry_mtime_nsec)                                                                    \
    X(archive_entry_new)                                                                           \
    X(archive_entry_pathname)                                                                      \
    X(archive_entry_perm)                                                                          \
    X(archive_entry_rdevmajor)                                                                     \
    X(archive_entry_rdevminor)                                                                     \
    X(archive_entry_set_filetype)                                                                  \
    X(archive_entry_set_gid)                                                                       \
    X(archive_entry_set_hardlink)                                                                  \
    X(archive_entry_set_mtime)                                                                     \
    X(archive_entry_set_pathname)                                                                  \
    X(archive_entry_set_perm)                                                                      \
    X(archive_entry_set_rdevmajor)                                                                 \
    X(archive_entry_set_rdevminor)                                                                 \
    X(archive_entry_set_size)                                                                      \
    X(archive_entry_set_symlink)                                                                   \
    X(archive_entry_set_uid)                                                                       \
    X(archive_entry_size_is_set)                                                                   \
    X(archive_entry_size)                                                                          \
    X(archive_entry_symlink)                                                                       \
    X(archive_entry_uid)                                                                           \
    X(archive_entry_xattr_add_entry)                                                               \
    X(archive_entry_xattr_next)                                                                    \
    X(archive_entry_xattr_reset)                                                                   \
    X(archive_error_string)                                                                        \
    X(archive_read_data)                                                                           \
    X(archive_read_data_block)                                                                     \
    X(archive_read_free)                                                                           \
    X(archive_read_new)                                                                            \
    X(archive_read_next_header)                                                                    \
    X(archive_read_open)                                                                           \
    X(archive_read_support_filter_bzip2)                                                           \
    X(archive_read_support_filter_gzip)                                                            \
    X(archive_read_support_filter_lz4)                                                             \
    X(archive_read_support_filter_zstd)                                                            \
    X(archive_read_support_format_cpio)                                                            \
    X(archive_read_support_format_raw)                                                             \
    X(archive_read_support_format_tar)                                                             \
    X(archive_read_support_format_zip)                                                             \
    X(archive_set_error)                                                                           \
    X(archive_write_add_filter_by_name)                                                            \
    X(archive_write_add_filter_gzip)                                                               \
    X(archive_write_add_filter_xz)                                                                 \
    X(archive_write_add_filter_zstd)                                                               \
    X(archive_write_close)                                                                         \
    X(archive_write_data)                                                                          \
    X(archive_write_free)                                                                          \
    X(archive_write_header)                                                                        \
    X(archive_write_new)                                                                           \
    X(archive_write_open)                                                                          \
    X(archive_write_set_bytes_in_last_block)                                                       \
    X(archive_write_set_bytes_per_block)                                                           \
    X(archive_write_set_format_pax)                                                                \
    X(archive_write_set_format_raw)                                                                \
    X(archive_write_set_options)

struct mos_archive_library {
#define X(name) __typeof__(name) *name;
    MOS_ARCHIVE_FUNCTIONS(X)
#undef X
};

/* Never NULL.  Where the library is not to be had, or lacks one of these functions, what makes a
 * new reader or writer returns NULL: whoever got one may call all the others.  From any thread. */
const struct mos_archive_library *mos_archive_library(void);
/* Why it is not to be had; NULL: it is. */
const char *mos_archive_missing(void);

#ifndef MOS_ARCHIVE_LIBRARY_ITSELF
#define archive_entry_acl_add_entry (mos_archive_library()->archive_entry_acl_add_entry)
#define archive_entry_acl_next (mos_archive_library()->archive_entry_acl_next)
#define archive_entry_acl_reset (mos_archive_library()->archive_entry_acl_reset)
#define archive_entry_acl_types (mos_archive_library()->archive_entry_acl_types)
#define archive_entry_filetype (mos_archive_library()->archive_entry_filetype)
#define archive_entry_free (mos_archive_library()->archive_entry_free)
#define archive_entry_gid (mos_archive_library()->archive_entry_gid)
#define archive_entry_hardlink (mos_archive_library()->archive_entry_hardlink)
#define archive_entry_mtime (mos_archive_library()->archive_entry_mtime)
#define archive_entry_mtime_nsec (mos_archive_library()->archive_entry_mtime_nsec)
#define archive_entry_new (mos_archive_library()->archive_entry_new)
#define archive_entry_pathname (mos_archive_library()->archive_entry_pathname)
#define archive_entry_perm (mos_archive_library()->archive_entry_perm)
#define archive_entry_rdevmajor (mos_archive_library()->archive_entry_rdevmajor)
#define archive_entry_rdevminor (mos_archive_library()->archive_entry_rdevminor)
#define archive_entry_set_filetype (mos_archive_library()->archive_entry_set_filetype)
#define archive_entry_set_gid (mos_archive_library()->archive_entry_set_gid)
#define archive_entry_set_hardlink (mos_archive_library()->archive_entry_set_hardlink)
#define archive_entry_set_mtime (mos_archive_library()->archive_entry_set_mtime)
#define archive_entry_set_pathname (mos_archive_library()->archive_entry_set_pathname)
#define archive_entry_set_perm (mos_archive_library()->archive_entry_set_perm)
#define archive_entry_set_rdevmajor (mos_archive_library()->archive_entry_set_rdevmajor)
#define archive_entry_set_rdevminor (mos_archive_library()->archive_entry_set_rdevminor)
#define archive_entry_set_size (mos_archive_library()->archive_entry_set_size)
#define archive_entry_set_symlink (mos_archive_library()->archive_entry_set_symlink)
#define archive_entry_set_uid (mos_archive_library()->archive_entry_set_uid)
#define archive_entry_size_is_set (mos_archive_library()->archive_entry_size_is_set)
#define archive_entry_size (mos_archive_library()->archive_entry_size)
#define archive_entry_symlink (mos_archive_library()->archive_entry_symlink)
#define archive_entry_uid (mos_archive_library()->archive_entry_uid)
#define archive_entry_xattr_add_entry (mos_archive_library()->archive_entry_xattr_add_entry)
#define archive_entry_xattr_next (mos_archive_library()->archive_entry_xattr_next)
#define archive_entry_xattr_reset (mos_archive_library()->archive_entry_xattr_reset)
#define archive_error_string (mos_archive_library()->archive_error_string)
#define archive_read_data (mos_archive_library()->archive_read_data)
#define archive_read_data_block (mos_archive_library()->archive_read_data_block)
#define archive_read_free (mos_archive_library()->archive_read_free)
#define archive_read_new (mos_archive_library()->archive_read_new)
#define archive_read_next_header (mos_archive_library()->archive_read_next_header)
#define archive_read_open (mos_archive_library()->archive_read_open)
#define archive_read_support_filter_bzip2 (mos_archive_library()->archive_read_support_filter_bzip2)
#define archive_read_support_filter_gzip (mos_archive_library()->archive_read_support_filter_gzip)
#define archive_read_support_filter_lz4 (mos_archive_library()->archive_read_support_filter_lz4)
#define archive_read_support_filter_zstd (mos_archive_library()->archive_read_support_filter_zstd)
#define archive_read_support_format_cpio (mos_archive_library()->archive_read_support_format_cpio)
#define archive_read_support_format_raw (mos_archive_library()->archive_read_support_format_raw)
#define archive_read_support_format_tar (mos_archive_library()->archive_read_support_format_tar)
#define archive_read_support_format_zip (mos_archive_library()->archive_read_support_format_zip)
#define archive_set_error (mos_archive_library()->archive_set_error)
#define archive_write_add_filter_by_name (mos_archive_library()->archive_write_add_filter_by_name)
#define archive_write_add_filter_gzip (mos_archive_library()->archive_write_add_filter_gzip)
#define archive_write_add_filter_xz (mos_archive_library()->archive_write_add_filter_xz)
#define archive_write_add_filter_zstd (mos_archive_library()->archive_write_add_filter_zstd)
#define archive_write_close (mos_archive_library()->archive_write_close)
#define archive_write_data (mos_archive_library()->archive_write_data)
#define archive_write_free (mos_archive_library()->archive_write_free)
#define archive_write_header (mos_archive_library()->archive_write_header)
#define archive_write_new (mos_archive_library()->archive_write_new)
#define archive_write_open (mos_archive_library()->archive_write_open)
#define archive_write_set_bytes_in_last_block                                                      \
    (mos_archive_library()->archive_write_set_bytes_in_last_block)
#define archive_write_set_bytes_per_block (mos_archive_library()->archive_write_set_bytes_per_block)
#define archive_write_set_format_pax (mos_archive_library()->archive_write_set_format_pax)
#define archive_write_set_format_raw (mos_archive_library()->archive_write_set_format_raw)
#define archive_write_set_options (mos_archive_library()->archive_write_set_options)
#endif

#endif
