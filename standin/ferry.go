package standin

import "time"

// Member is one instance of the sample mesh.
type Member struct {
	Service, Version, ID, Site string
	Outside                    bool // runs without a proxy, at a fixed address
	Profile
}

// Ferry is the sample mesh: a night ferry line with its kiosk, timetable,
// fares, berths and tides, and the old computer of the harbour office.
func Ferry() []Member {
	const north, south = "north-quay", "south-quay"
	ms := time.Millisecond
	lines := func(l ...string) []string { return l }
	member := func(service, version, copied, site string, p Profile) Member {
		return Member{
			Service: service,
			Version: version,
			ID:      service + "-" + version + "-" + copied,
			Site:    site,
			Profile: p,
		}
	}
	timetable := Call{
		Service: "sailings",
		Path:    "/sailings/today",
		Needed:  true,
		Missing: "The timetable cannot be had just now",
	}
	fares := Call{Service: "fares", Path: "/fares/adult"}
	berths := Call{Service: "berths", Path: "/berths/free"}
	tides := Call{Service: "tides", Path: "/tides/next"}
	office := Call{Service: "harbour-office", Path: "/register", Share: 0.2}
	sailings := func(median time.Duration, calls []Call, board ...string) Profile {
		return Profile{
			Median: median,
			Spread: 0.35,
			Errors: 0.002,
			Calls:  calls,
			Board:  board,
		}
	}
	kiosk := Profile{
		Median: 3 * ms,
		Spread: 0.3,
		Board:  lines("Night Ferry Line", "Tickets and times, all night"),
		Calls:  []Call{timetable, fares},
	}
	plain := sailings(8*ms, []Call{berths, office}, "22:40 Gannet to Skerry", "01:15 Petrel to Holm")
	withTides := sailings(11*ms, []Call{berths, tides, office},
		"22:40 Gannet to Skerry, high water 22:05", "01:15 Petrel to Holm, ebb")
	withPhotos := sailings(14*ms, []Call{berths, tides},
		"22:40 Gannet to Skerry, high water 22:05, berth 4 pictured", "01:15 Petrel to Holm, ebb, berth 2 pictured")
	free := Profile{Median: 5 * ms, Spread: 0.4, Board: lines("Berths free: 12")}
	windows := Profile{Median: 6 * ms, Spread: 0.4, Board: lines("Berths free: 12, with window: 3")}
	cheap := Profile{Median: 4 * ms, Spread: 0.3, Board: lines("Adult 14", "Bicycle 3")}
	dogs := Profile{Median: 5 * ms, Spread: 0.3, Errors: 0.01, Board: lines("Adult 14", "Bicycle 3", "Dog 2")}
	water := Profile{Median: 2 * ms, Spread: 0.3, Board: lines("High water 22:05")}
	register := Profile{
		Median: 30 * ms,
		Spread: 0.5,
		Slow:   0.03,
		AtOnce: 8,
		Board:  lines("Registered. Please keep your receipt."),
	}
	return []Member{
		member("kiosk", "v1", "a", north, kiosk),
		member("sailings", "v1", "a", north, plain),
		member("sailings", "v2", "a", north, withTides),
		member("sailings", "v3", "a", south, withPhotos),
		member("fares", "v1", "a", north, cheap),
		member("fares", "v2", "a", south, dogs),
		member("berths", "v1", "a", north, free),
		member("berths", "v1", "b", south, free),
		member("berths", "v2", "a", north, windows),
		member("tides", "v1", "a", south, water),
		{
			Service: "harbour-office",
			Version: "legacy",
			ID:      "harbour-office-legacy",
			Outside: true,
			Profile: register,
		},
	}
}
