-- The trail as it was before entries had an event and fields.
create table entries (
	id      integer primary key,
	at      integer not null,
	who     text not null,
	kind    text not null,
	session text not null,
	hop     text not null,
	say     text not null,
	took    integer not null,
	failed  text not null
);
insert into entries (at, who, kind, session, hop, say, took, failed) values
	(1791000000000, 'ines', 'link',  '',        'quay',    'link is up', 0, ''),
	(1791000001000, 'ines', 'shell', 'gauge-1', 'gauge-1', 'shell began', 0, ''),
	(1791000061000, 'ines', 'end',   'gauge-1', 'gauge-1', 'shell ended, status 0', 60000000000, ''),
	(1791000091000, 'ines', 'end',   '',        'quay',    'link ended, 5 bytes in, 6 out', 91000000000, 'channel: link lost: quay gave no sign of life'),
	(1791000092000, 'ines', 'walk',  'gauge-2', 'gauge-2', 'did not get through', 0, 'identity: identity changed: gauge-2 shows another key');
