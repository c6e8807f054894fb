package demo

// The Brackwater Ferry Museum does not exist; neither do its ferries and people.

// vessel is a ferry of the collection.
type vessel struct {
	slug, name string
	built      int
	length     float64 // metres
	people     int     // that she carried
	text       string
}

var vessels = []vessel{
	{"marigold", "Marigold", 1887, 21.4, 120, "The oldest hull we keep afloat. Marigold crossed the Narrows for forty-one years and never once missed the Saturday market."},
	{"grey-heron", "Grey Heron", 1903, 28.0, 200, "A paddle ferry with two funnels and one temper. Her engine still turns on the first Sunday of the month."},
	{"little-tern", "Little Tern", 1911, 9.8, 24, "Built for the school run. Generations of island children learned their tables on her benches."},
	{"breakwater", "Breakwater", 1924, 34.2, 310, "The first ferry here that could carry a lorry. Mind the ramp: it was made for lighter ones."},
	{"samphire", "Samphire", 1931, 18.6, 96, "Bought second-hand, repainted in a weekend, and in service for thirty years."},
	{"winter-sun", "Winter Sun", 1938, 41.0, 420, "She ran through the great freeze with an ice saw lashed to her bow. It hangs in the boathouse now."},
	{"curlew", "Curlew", 1949, 16.3, 80, "A naval launch that came home and took up honest work."},
	{"saint-brannoc", "Saint Brannoc", 1956, 38.5, 380, "Diesel, dependable, and disliked by everyone who had loved the steamers, for about a year."},
	{"moorings-lass", "Moorings Lass", 1962, 12.2, 40, "The night boat. Her bell is rung at closing time to this day."},
	{"tidewatcher", "Tidewatcher", 1971, 44.7, 500, "The last ferry built at the Brackwater yard, launched in the rain before six thousand people."},
	{"osprey", "Osprey", 1984, 30.1, 260, "A catamaran ahead of her time, and mostly ahead of her timetable."},
	{"new-dawn", "New Dawn", 2009, 27.9, 150, "Electric, and so quiet that the captain was given a whistle."},
}

// leaf is a page that is no ferry.
type leaf struct{ path, section, title, text string }

var leaves = []leaf{
	{"", "home", "Brackwater Ferry Museum", "A small museum about the boats that joined two shores for a hundred and twenty years. Come aboard: twelve ferries, one boathouse, and tea on the slipway."},
	{"visit", "visit", "Plan your visit", "We are open from April to October, Tuesday to Sunday, ten to five. In winter the boathouse opens at weekends, and the stove is lit."},
	{"visit/tickets", "visit", "Tickets", "Adults 7, children 3, islanders free. A ticket is good for a whole season, as a ferry pass should be."},
	{"visit/getting-here", "visit", "Getting here", "The number 4 bus stops at the slipway. If you come by boat, tie up at the east pontoon and ring the bell."},
	{"visit/accessibility", "visit", "Accessibility", "Four of the twelve ferries have level boarding. The boathouse, the tearoom and the archive are on one floor."},
	{"learn", "learn", "Learning", "School groups steer a real wheel, send real signals, and go home with real knots."},
	{"learn/knots", "learn", "Ten knots", "Bowline, cleat hitch, sheet bend: the ten knots that every deckhand had to know, with drawings you can print."},
	{"learn/signals", "learn", "Signals and flags", "One long blast means that somebody is leaving. Three short ones mean that somebody is going backwards."},
	{"archive", "archive", "The archive", "Logbooks, tickets, timetables and 4,000 photographs. Readers are welcome on Thursdays; please bring a pencil."},
	{"archive/timetables", "archive", "Old timetables", "From 1889 to 2009, every crossing that was promised, and in red ink those that were made."},
	{"shop", "shop", "The shop", "Enamel mugs, tide tables, and a jigsaw of Grey Heron with one piece of sky too many."},
	{"about", "about", "About the museum", "Run by a trust of volunteers since 1994. This website, ferry.brackwater.example, was first put online in 2003 by a purser with time on her hands."},
	{"about/people", "about", "People", "Forty volunteers, two curators, and a harbour cat whose rank is in dispute."},
	{"about/support", "about", "Support us", "A plank costs 35, a porthole 120, a funnel you would have to talk to us about."},
}

// item is a piece of news.
type item struct{ date, slug, title, text string }

var news = []item{
	{"2023-03-04", "stove-lit-for-the-season", "The stove is lit for the season", "The boathouse stove was lit this morning, and the season has begun. The first visitor was the cat."},
	{"2023-04-15", "marigold-back-in-the-water", "Marigold is back in the water", "After eleven months on the slip, Marigold floats again. She leaked for an hour, then thought better of it."},
	{"2023-05-20", "whistle-concert", "A concert for whistles", "Five ferries, one conductor, and a score that nobody had rehearsed. Windows as far as the church were opened to listen."},
	{"2023-06-11", "purser-finds-lost-ticket", "Ticket of 1912 found behind a locker", "A return ticket, unused on the way back. If your great-grandfather stayed, we have his fare."},
	{"2023-07-02", "summer-timetable", "The summer timetable", "Trips around the harbour at eleven, one and three. At five if the skipper feels like it."},
	{"2023-08-19", "regatta-photographs", "Photographs of the regatta", "Thank you to everyone who sent pictures. The capsizing was not planned."},
	{"2023-09-30", "engine-day", "Engine day", "Bring ear plugs and old clothes: on Sunday we start everything that can be started."},
	{"2023-11-12", "winter-talks", "Winter talks by the stove", "Six Thursdays, six talks, from ice saws to island weddings. Soup is served."},
	{"2024-01-20", "great-freeze-remembered", "The great freeze remembered", "Three people who crossed on foot in that winter told us how it was. Two of them had been told not to."},
	{"2024-03-02", "new-curator", "A new curator", "Ines Tallow joins us from the lighthouse archive. She has already found two boats we had lost."},
	{"2024-04-06", "tearoom-reopens", "The tearoom reopens", "New roof, same scones. The captain's table is by the window now."},
	{"2024-05-18", "night-of-the-boats", "Night of the boats", "All twelve ferries with their lamps lit. The harbour was dark for once, and everyone whispered."},
	{"2024-06-22", "grey-heron-certificate", "Grey Heron passes her test", "The boiler inspector came, looked for four hours, and smiled once. That is a certificate."},
	{"2024-07-13", "children-steer", "Children at the wheel", "Two hundred pupils steered Curlew this month. The east pontoon has been straightened."},
	{"2024-08-31", "storm-closes-slipway", "Storm closes the slipway", "We are safe, the boats are safe, and the sign is somewhere in the next parish."},
	{"2024-10-05", "archive-on-the-screen", "The archive on the screen", "A thousand photographs have been scanned. The purser has named everybody in them, with comments."},
	{"2025-02-15", "model-makers-meet", "Model makers meet", "Forty ferries, none longer than a hand. One of them had working lamps."},
	{"2025-04-12", "saint-brannoc-repainted", "Saint Brannoc repainted", "The right green took eleven attempts. A photograph of 1958 settled it."},
	{"2025-06-07", "members-crossing", "The members' crossing", "A hundred members crossed to the island and back, and only ninety-nine returned. He had met somebody."},
	{"2025-08-23", "bell-rings-again", "The night bell rings again", "Moorings Lass has her bell back. It will be rung at closing time, gently."},
	{"2025-10-18", "season-in-numbers", "The season in numbers", "18,240 visitors, 311 harbour trips, 4,902 scones, one proposal of marriage (accepted)."},
	{"2026-03-14", "we-are-moving-online", "We are moving, online", "The boats stay where they are. The website gets a new name that people can spell."},
}

// comments are what visitors wrote; spam is what others wrote.
var comments = []struct{ author, text string }{
	{"Ada Quill", "My grandmother took this boat every day of the war. Thank you for keeping her."},
	{"T. Marsh", "Is the east pontoon open again? I have a dinghy and some curiosity."},
	{"Bo Lindqvist", "Lovely day, and the scones are as good as you say. See also {{site}}/visit/tickets for the season pass."},
	{"The purser", "The lady on the left is Miss Oram, who sold tickets until 1961."},
	{"Juno", "The cat sat on my lap for the whole talk."},
	{"H. Okafor", "We sang the whistle tune all the way home. 🚢"},
}

var spam = []string{
	"Cheap funnels online!!! Best price, buy now, click click click",
	"I made 5,000 a week from my own slipway, ask me how",
	"Great post. Your website could rank higher with one weird rope trick",
}
