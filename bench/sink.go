package main

import (
	"fmt"
	"net"

	"gullroute/internal/simnet"
)

// sinkAddress is where the sink lives in the simulated internet.
const sinkAddress = "127.30.0.99"

// startSink runs a host of the simulated internet that takes every message and
// forgets it.
func startSink() (address string, stop func(), err error) {
	l, err := net.Listen("tcp", sinkAddress+":0")
	if err != nil {
		return "", nil, err
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	world := &simnet.World{
		Hosts: []simnet.Spec{
			{
				Name:      "sink.saltmarsh.example",
				Address:   sinkAddress,
				Behaviour: simnet.Behaviour{Forgets: true},
			},
		},
	}
	n, err := simnet.Start(
		simnet.Options{World: world, DNS: "127.0.0.1:0", Port: port, Control: "127.0.0.1:0"},
	)
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("%s:%d", sinkAddress, port), n.Close, nil
}
