/* What the parts of the writer call of each other. */
#ifndef TWI_WRITER_STATE_H
#define TWI_WRITER_STATE_H

#include "writer.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/events.h"

enum {
    TWI_WHY_BYTES = 256,      /* of the line that says why a sighting began */
    TWI_ROOM_BYTES = 4000000, /* made at once on a full card, so that it is made seldom */
    TWI_RETRY_US = 10000000   /* until a catalogue that failed is opened again */
};

int64_t twi_writer_now(const twi_writer *writer); /* by the clock, monotonic */

/** Tell of something, as it is; whoever is told may be nobody. */
void twi_writer_pass(const twi_writer *writer, const tw_event *event);

/** A capture of the job has not been stored. */
void twi_writer_problem(const twi_writer *writer, const twi_job *job, twi_kind what,
                        const tw_error *why);

/** What is written on a picture. */
twi_caption_fields twi_writer_caption(const twi_writer *writer,
                                      const twi_camera_settings *camera,
                                      uint32_t sighting, int64_t wall_us);

/** @param on  TWI_CAPTION_STILLS or TWI_CAPTION_CLIPS. */
bool twi_writer_has_caption(const twi_channel *channel, int64_t on);

/* ---- writer_files.c: on a full card room is made, and it is tried once more */

twi_name_fields twi_writer_name(const twi_writer *writer, const twi_job *job,
                                twi_kind kind, const twi_stamp *stamp);
tw_status twi_writer_begin_file(twi_writer *writer, const twi_name_fields *name,
                                twi_store_file *file, tw_error *err);
tw_status twi_writer_append(twi_writer *writer, twi_store_file *file, const void *data,
                            size_t bytes, tw_error *err);
tw_status twi_writer_commit(twi_writer *writer, twi_store_file *file, tw_error *err);

/** What the card has taken of the time, for whoever wonders what is slow. @return st. */
tw_status twi_writer_took(twi_writer *writer, int64_t began_us, tw_status st);

/** @return whether room could be made, and it is worth trying. */
bool twi_writer_make_room(twi_writer *writer, uint64_t bytes);

/** Remember whether room was of use. @param st  Of the second try. @return st. */
tw_status twi_writer_note_room(twi_writer *writer, tw_status st);

/* ---- writer_catalogue.c */

/** The catalogue cannot be written: told once, and opened again later. */
void twi_writer_catalogue_failed(twi_writer *writer, const char *camera,
                                 const tw_error *why);

/** @return the sighting's id, 0: it could not be written. */
int64_t twi_writer_note_sighting(twi_writer *writer, const twi_job *job, bool over);
void twi_writer_note_trace(twi_writer *writer, const twi_job *job);
void twi_writer_note_log(twi_writer *writer, const twi_job *job);
void twi_writer_note_value(twi_writer *writer, const twi_job *job);

/** A capture is complete on the card. */
void twi_writer_stored(twi_writer *writer, const twi_job *job, const twi_store_file *file,
                       twi_kind kind, const twi_stamp *stamp);

/* ---- writer_whole.c */

/** A capture that was made elsewhere: it begins, goes on, or ends. */
void twi_writer_whole(twi_writer *writer, const twi_job *job);

/* ---- numbers.c */

/** The next sighting's number is higher than this one. Any thread. */
void twi_writer_raise_number(twi_writer *writer, int64_t number);

/** Numbers go on after those that others have put into the catalogue meanwhile. */
void twi_writer_follow_numbers(twi_writer *writer);

/* ---- writer_stills.c, writer_clips.c */

/** A still, as it is and with its caption, as is wanted. */
void twi_writer_stills(twi_writer *writer, twi_job *job);

/** A video begins: itself, or its captioned copy, or both. */
void twi_writer_begin_clips(twi_writer *writer, const twi_job *job);

/** A packet, or the end, of those that have begun. */
void twi_writer_clips(twi_writer *writer, const twi_job *job);

/** Complete what a camera has open. */
void twi_writer_end_channel(twi_writer *writer, twi_channel *channel);

#endif
