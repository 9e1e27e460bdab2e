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
	kiosk := Profile{Median: 3 * ms, Spread: 0.3, Board: []string{"Night Ferry Line", "Tickets and times, all night"},
		Calls: []Call{
			{
				Service: "sailings",
				Path:    "/sailings/today",
				Needed:  true,
				Missing: "The timetable cannot be had just now",
			},
			{Service: "fares", Path: "/fares/adult"},
		}}
	berths := Call{Service: "berths", Path: "/berths/free"}
	tides := Call{Service: "tides", Path: "/tides/next"}
	office := Call{Service: "harbour-office", Path: "/register", Share: 0.2}
	sailings := func(median time.Duration, calls []Call, board ...string) Profile {
		return Profile{Median: median, Spread: 0.35, Errors: 0.002, Calls: calls, Board: board}
	}
	return []Member{
		{Service: "kiosk", Version: "v1", ID: "kiosk-v1-a", Site: north, Profile: kiosk},
		{Service: "sailings", Version: "v1", ID: "sailings-v1-a", Site: north,
			Profile: sailings(8*ms, []Call{berths, office}, "22:40 Gannet to Skerry", "01:15 Petrel to Holm")},
		{Service: "sailings", Version: "v2", ID: "sailings-v2-a", Site: north,
			Profile: sailings(
				11*ms,
				[]Call{berths, tides, office},
				"22:40 Gannet to Skerry, high water 22:05",
				"01:15 Petrel to Holm, ebb",
			)},
		{Service: "sailings", Version: "v3", ID: "sailings-v3-a", Site: south,
			Profile: sailings(
				14*ms,
				[]Call{berths, tides},
				"22:40 Gannet to Skerry, high water 22:05, berth 4 pictured",
				"01:15 Petrel to Holm, ebb, berth 2 pictured",
			)},
		{
			Service: "fares",
			Version: "v1",
			ID:      "fares-v1-a",
			Site:    north,
			Profile: Profile{Median: 4 * ms, Spread: 0.3, Board: []string{"Adult 14", "Bicycle 3"}},
		},
		{
			Service: "fares",
			Version: "v2",
			ID:      "fares-v2-a",
			Site:    south,
			Profile: Profile{
				Median: 5 * ms,
				Spread: 0.3,
				Errors: 0.01,
				Board:  []string{"Adult 14", "Bicycle 3", "Dog 2"},
			},
		},
		{
			Service: "berths",
			Version: "v1",
			ID:      "berths-v1-a",
			Site:    north,
			Profile: Profile{Median: 5 * ms, Spread: 0.4, Board: []string{"Berths free: 12"}},
		},
		{
			Service: "berths",
			Version: "v1",
			ID:      "berths-v1-b",
			Site:    south,
			Profile: Profile{Median: 5 * ms, Spread: 0.4, Board: []string{"Berths free: 12"}},
		},
		{
			Service: "berths",
			Version: "v2",
			ID:      "berths-v2-a",
			Site:    north,
			Profile: Profile{Median: 6 * ms, Spread: 0.4, Board: []string{"Berths free: 12, with window: 3"}},
		},
		{
			Service: "tides",
			Version: "v1",
			ID:      "tides-v1-a",
			Site:    south,
			Profile: Profile{Median: 2 * ms, Spread: 0.3, Board: []string{"High water 22:05"}},
		},
		{Service: "harbour-office", Version: "legacy", ID: "harbour-office-legacy", Outside: true,
			Profile: Profile{
				Median: 30 * ms,
				Spread: 0.5,
				Slow:   0.03,
				AtOnce: 8,
				Board:  []string{"Registered. Please keep your receipt."},
			}},
	}
}
