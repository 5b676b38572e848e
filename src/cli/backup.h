/* What is in a backup: a ZIP file, by these names. */
#ifndef TWI_CLI_BACKUP_H
#define TWI_CLI_BACKUP_H

/* First, what it is of: {"backup": 1, "station": "hollin", "made":
 * "2027-03-13T20:30:00Z", "captures": true}. */
#define BACKUP_ABOUT "backup.json"
enum { BACKUP_FORMAT = 1, BACKUP_TEXT_MOST = 1 << 20 };

#define BACKUP_SETTINGS "settings.ini"  /* all in one, with what was included */
#define BACKUP_ACCOUNTS "accounts"      /* names, rights, hashes */
#define BACKUP_PHONES "accounts.phones" /* with the key of the station */
#define BACKUP_CATALOGUE "catalogue.db"
#define BACKUP_BESIDE "beside/"     /* files that settings name, relative ones */
#define BACKUP_CAPTURES "captures/" /* last, by their names in the store */

#endif
