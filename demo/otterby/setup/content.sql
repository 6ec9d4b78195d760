CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT NOT NULL);
INSERT INTO settings VALUES ('site_name', 'Otterby Ferry'), ('theme', 'otterby'), ('last_sweep', '0');
CREATE TABLE plugins (folder TEXT PRIMARY KEY, active INTEGER NOT NULL, version TEXT NOT NULL DEFAULT '', migrated INTEGER NOT NULL DEFAULT 0);
INSERT INTO plugins (folder, active) VALUES ('tidetable', 1), ('enquiries', 1);
CREATE TABLE menu (position INTEGER PRIMARY KEY, label TEXT NOT NULL, path TEXT NOT NULL);
INSERT INTO menu VALUES (1, 'Home', '/'), (2, 'Timetable', '/timetable'), (3, 'Fares', '/fares'), (4, 'Notices', '/notices'), (5, 'Getting here', '/getting-here'), (6, 'Contact', '/contact');
CREATE TABLE pages (slug TEXT PRIMARY KEY, title TEXT NOT NULL, template TEXT NOT NULL, body TEXT NOT NULL);
INSERT INTO pages VALUES
('', 'The ferry at Otterby', 'front', '<p><img src="/uploads/ferry.svg" alt="The ferry under way"></p><p>Two boats, one bell, four minutes from bank to bank. Foot passengers, bicycles and well-behaved dogs are welcome on every crossing.</p><h2>Today on the water</h2><p>The boats run from first light. Look at the <a href="/timetable">timetable</a> before you walk down.</p>'),
('timetable', 'Timetable', 'page', '<p>All sailings, from both landing stages. In fog the bell is rung every two minutes.</p>[[tidetable/board]]'),
('fares', 'Fares', 'page', '<p>Pay on board, in coin or by card.</p><table><tr><th>Passenger</th><th>Single</th><th>Return</th></tr><tr><td>Adult</td><td>2.40</td><td>4.00</td></tr><tr><td>Child</td><td>1.20</td><td>2.00</td></tr><tr><td>Bicycle</td><td>1.00</td><td>1.60</td></tr><tr><td>Dog</td><td>free</td><td>free</td></tr></table>'),
('getting-here', 'Getting here', 'page', '<p><img src="/uploads/map.svg" alt="Map of the crossing"></p><p>Otterby Steps are ten minutes on foot from the mill. On the far bank the path from Sallow End comes down to the stage.</p><h2>By bicycle</h2><p>There are racks on both banks.</p>'),
('contact', 'Contact', 'page', '<p>Ask about group crossings, lost umbrellas, or the tide.</p>[[enquiries/form]]');
CREATE TABLE notices (slug TEXT PRIMARY KEY, title TEXT NOT NULL, posted TEXT NOT NULL, summary TEXT NOT NULL, body TEXT NOT NULL);
INSERT INTO notices VALUES
('spring-tide', 'Spring tide on Thursday', '2026-03-17', 'No crossings between two and four.', '<p>The river will stand above the lower steps. Boats rest between two and four in the afternoon.</p>'),
('new-boat', 'A second boat joins us', '2026-05-02', 'Wagtail carries twelve.', '<p><img src="/uploads/steps.svg" alt="Otterby Steps"></p><p>Wagtail was built at the mill yard and carries twelve passengers.</p>'),
('lantern-night', 'Lantern night', '2026-09-21', 'Evening crossings by lamplight.', '<p>On the longest evening of the season we row by lantern. Bring a warm coat.</p>'),
('winter-hours', 'Winter hours', '2026-11-01', 'The last boat leaves at half past four.', '<p>From November the last boat leaves Otterby Steps at half past four.</p>');
