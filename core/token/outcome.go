package token

// Rule: A judgement says itself what follows for a service.

// Outcome is what a service that checks everything does with a token.
type Outcome string

// Outcomes.
const (
	Takes      Outcome = "takes"
	Refuses    Outcome = "refuses"
	CannotTell Outcome = "cannot tell" // it could not be read, or not be verified
)

// OutcomeOf says it by the judgements about a token, as their table has it. What keeps it from
// being taken comes before what is not known.
func OutcomeOf(list []Judgement) Outcome {
	out := Takes
	for _, j := range list {
		switch Checks[checkAt[j.ID]].Outcome {
		case Refuses:
			return Refuses
		case CannotTell:
			out = CannotTell
		case Takes:
		}
	}
	return out
}

// Sound says whether nothing among judgements keeps a service from taking the token. What is not
// known is nothing that was found wrong: OutcomeOf tells those apart.
func Sound(list []Judgement) bool { return OutcomeOf(list) != Refuses }

// Settles are the judgements that leave open what a service does; their Why says what would
// settle it. None where that is not open.
func Settles(list []Judgement) (out []Judgement) {
	if OutcomeOf(list) != CannotTell {
		return nil
	}
	for _, j := range list {
		if Checks[checkAt[j.ID]].Outcome == CannotTell {
			out = append(out, j)
		}
	}
	return out
}
