from bramblemoor.cli.main import main

main()
