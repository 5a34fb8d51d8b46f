# Tells, case by case, whether a board answers as it should: check_answers.sh ASK ADDRESS PORT
ask=$1 address=$2 port=$3
number=0
echo "1..3"

# answers WORDS EXPECTED
answers() {
    number=$((number + 1))
    # shellcheck disable=SC2086
    answer=$("$ask" "$address" "$port" $1)
    if [ "$answer" = "$2" ]; then
        echo "ok $number - $1"
    else
        echo "not ok $number - $1"
        echo "# expected '$2', and the board says '$answer'"
    fi
}

answers "height ardle" "4.82"
answers "height atlantis" "nothing known"
answers "raise the tide" "what?"
