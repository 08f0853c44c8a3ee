package finding

// worse are the codes that say that something is not good. The others only describe what
// was seen, say that nothing is wrong, or say what kept a rate from being higher, which
// something always does.
var worse = map[Code]bool{
	NoAnswer: true, NeverAnswered: true, Refusals: true, LossSteady: true, LossBursts: true, LossAlternating: true, OutageOnce: true,
	DelayRaised: true, DelayStep: true, Saturation: true,
	PortClosed: true, PortFiltered: true, FamilyDiffers: true, NameUnresolved: true, NameSlow: true, NameDiffers: true,
	NeighbourUnresolved: true, GatewayLossy: true, BeyondGateway: true,
	LossCarried: true, BranchLossy: true, BranchDead: true, BranchSlow: true, RouteLoop: true, RouteChanged: true, MTUBlackHole: true,
	QualityBelow: true, DSCPRemarked: true, HeldByLoss: true, Bloat: true,
}

// Bad reports whether the finding says that what was measured is not good. Of losses that
// is so when more than a trace of them is sure.
func (f Finding) Bad() bool {
	if f.Code.OfLoss() && f.Code != OutageOnce {
		return f.Figures["loss_low_ratio"] >= leastLoss
	}
	return worse[f.Code]
}
